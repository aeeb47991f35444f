"""Spoken forms: the ways a written word may rightly be read aloud.

A form is a tuple of plain lower-case words.  All forms of a token count as read.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

from num2words import num2words

Form = tuple[str, ...]

ABBREVIATIONS: dict[str, tuple[str, ...]] = {
    "mr": ("mister",),
    "mrs": ("missus", "misses", "mrs"),
    "ms": ("miss", "miz"),
    "dr": ("doctor", "drive"),
    "prof": ("professor",),
    "st": ("saint", "street"),
    "rev": ("reverend",),
    "hon": ("honourable",),
    "capt": ("captain",),
    "col": ("colonel",),
    "gen": ("general",),
    "lt": ("lieutenant",),
    "sgt": ("sergeant",),
    "jr": ("junior",),
    "sr": ("senior",),
    "vs": ("versus",),
    "etc": ("et cetera", "etcetera"),
    "e.g": ("for example", "e g"),
    "i.e": ("that is", "i e"),
    "no": ("number", "no"),
    "vol": ("volume",),
    "ch": ("chapter",),
    "p": ("page",),
    "ft": ("feet", "foot"),
    "lb": ("pounds", "pound"),
    "oz": ("ounces", "ounce"),
    "mph": ("miles per hour", "miles an hour"),
    "a.m": ("a m", "am"),
    "p.m": ("p m", "pm"),
}
SYMBOLS: dict[str, tuple[str, ...]] = {"&": ("and",), "%": ("percent", "per cent"), "+": ("plus",), "=": ("equals",)}
MONEY: dict[str, tuple[str, str, str]] = {
    "£": ("pound", "pounds", "pence"),
    "$": ("dollar", "dollars", "cents"),
    "€": ("euro", "euros", "cents"),
}
# Words written differently that sound alike, or that a recogniser can not tell apart by ear.
HOMOPHONES: tuple[frozenset[str], ...] = tuple(
    frozenset(group.split())
    for group in (
        "to too two",
        "there their they're",
        "its it's",
        "your you're",
        "for four fore",
        "by buy bye",
        "no know",
        "hear here",
        "see sea",
        "one won",
        "right write rite",
        "whole hole",
        "which witch",
        "where wear",
        "weather whether",
        "been bean",
        "new knew",
        "our hour",
        "son sun",
        "some sum",
        "piece peace",
        "through threw",
        "road rode rowed",
        "mail male",
        "meet meat",
        "week weak",
        "bear bare",
        "break brake",
        "great grate",
        "tide tied",
        "pier peer",
        "sail sale",
        "tale tail",
        "wait weight",
        "ate eight",
        "night knight",
        "not knot",
        "led lead",
        "read red",
        "passed past",
        "plain plane",
        "principal principle",
        "steal steel",
        "stair stare",
        "waist waste",
        "wood would",
        "gray grey",
        "ok okay",
        "all right alright",
        "whose who's",
        "quay key",
        "bough bow",
        "bored board",
        "cellar seller",
        "cent sent scent",
        "coarse course",
        "dear deer",
        "die dye",
        "fair fare",
        "flour flower",
        "foul fowl",
        "guest guessed",
        "hair hare",
        "heal heel",
        "higher hire",
        "hymn him",
        "idle idol",
        "in inn",
        "knead need",
        "lessen lesson",
        "loan lone",
        "maid made",
        "missed mist",
        "morning mourning",
        "oar or ore",
        "pail pale",
        "pain pane",
        "pair pear pare",
        "pray prey",
        "rain reign rein",
        "role roll",
        "root route",
        "scene seen",
        "seam seem",
        "shore sure",
        "sight site cite",
        "soar sore",
        "sole soul",
        "stationary stationery",
        "straight strait",
        "threw through",
        "throne thrown",
        "toe tow",
        "vain vein vane",
        "wore war",
        "worn warn",
        "aunt aren't",
        "oh o owe",
        "till til",
        "cannot can't",
    )
)
_SPELLINGS = (
    (re.compile(r"our(ed|ing|s|er|ers|less|ful|able|ably|hood|ite|ites)?$"), r"or\1"),
    (re.compile(r"is(e|ed|es|ing|ation|ations|er|ers)$"), r"iz\1"),
    (re.compile(r"(?<=[aeiou])ll(ed|ing|er|ers)$"), r"l\1"),
    (re.compile(r"(?<=[^aeiou])re(s|d)?$"), r"er\1"),
    (re.compile(r"yse(d|s)?$"), r"yze\1"),
    (re.compile(r"ogue(s)?$"), r"og\1"),
    (re.compile(r"ence(s)?$"), r"ense\1"),
    (re.compile(r"^(to|for|after|back|down|up|in|out)wards$"), r"\1ward"),
)
_DIGITS = ["oh", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine"]
_ROMAN = re.compile(r"^(?=[MDCLXVI])M{0,3}(CM|CD|D?C{0,3})(XC|XL|L?X{0,3})(IX|IV|V?I{0,3})$")
_DECADE = re.compile(r"^[’']?(\d{2,4})[’']?s$")


def plain(text: str) -> str:
    """Lower case, straight apostrophes, accents and outer punctuation off."""
    text = text.replace("’", "'").replace("‘", "'").replace("`", "'")
    text = unicodedata.normalize("NFKD", text)
    text = "".join(c for c in text if not unicodedata.combining(c)).lower()
    return text.strip(" \t\"“”()[]{}<>.,;:!?…—–-_*'/")


def spelling(word: str) -> str:
    """One spelling for all: British forms folded onto American ones, apostrophes dropped."""
    word = word.replace("'", "")
    for pattern, folded in _SPELLINGS:
        if len(word) > 4 and pattern.search(word):
            return pattern.sub(folded, word)
    return word


@lru_cache(maxsize=65_536)
def sound_key(word: str) -> str:
    """A key that is equal for words that count as the same reading: spelling variants and homophones."""
    for group in HOMOPHONES:
        if word in group:
            return min(group)
    return spelling(word)


def _number_words(value: int) -> list[Form]:
    forms = [_split(num2words(value)), _split(num2words(value).replace(" and ", " "))]
    if 100 <= value < 200:
        forms.append(("a", *forms[0][1:]))
    if 1000 < value < 10_000 and value % 1000 >= 100:
        high, low = divmod(value, 100)
        tail = _split(num2words(low)) if low >= 10 else ("oh", *_split(num2words(low))) if low else ("hundred",)
        forms.append((*_split(num2words(high)), *tail))
        if low:
            forms += [(*_split(num2words(high)), "hundred", "and", *_split(num2words(low)))]
    if value > 2000 and value < 2100:
        forms.append(("twenty", *(_split(num2words(value % 100)) if value % 100 >= 10 else ("oh", _DIGITS[value % 100]))))
    return forms


def _split(text: str) -> Form:
    return tuple(re.sub(r"[,\-]", " ", text.lower()).split())


def _decimal(bare: str) -> list[Form]:
    match = re.fullmatch(r"(\d+)\.(\d+)", bare)
    if not match:
        return []
    digits = tuple(_DIGITS[int(d)].replace("oh", "zero") for d in match[2])
    return [(*form, "point", *digits) for form in _number_words(int(match[1]))]


def _numeric(token: str) -> list[Form]:
    """Forms of a token that holds digits; empty where nothing fits."""
    bare = token.replace(",", "")
    if re.fullmatch(r"\d{1,15}", bare):
        forms = _number_words(int(bare))
        if (len(bare) >= 3 and "," not in token) or bare.startswith("0"):
            forms.append(tuple(_DIGITS[int(d)] for d in bare))
        return forms
    if match := re.fullmatch(r"(\d+)(st|nd|rd|th)", bare):
        return [_split(num2words(int(match[1]), to="ordinal")), ("the", *_split(num2words(int(match[1]), to="ordinal")))]
    if match := re.fullmatch(r"(\d{1,2})[:.](\d{2})(am|pm)?", bare):
        hour, minute = int(match[1]), int(match[2])
        head = _split(num2words(hour))
        tails: list[Form] = [(*_split(num2words(minute)),)] if minute >= 10 else [("oh", *_split(num2words(minute)))]
        if minute == 0:
            tails = [("o'clock",), ("hundred",), ()]
        forms = [(*head, *tail) for tail in tails]
        following = _split(num2words(hour % 12 + 1))
        named = {15: ("quarter", "past"), 30: ("half", "past"), 45: ("quarter", "to")}
        if minute in named:
            forms.append((*named[minute], *(following if minute == 45 else head)))
            forms.append(("a", *forms[-1]))
        forms = [(*f, match[3][0], "m") if match[3] else f for f in forms]
        return forms + (_decimal(bare) if "." in bare else [])
    if match := re.fullmatch(r"([£$€])(\d+)(?:\.(\d{2}))?", bare):
        one, many, small = MONEY[match[1]]
        whole = int(match[2])
        forms = [(*f, one if whole == 1 else many) for f in _number_words(whole)]
        if match[3] and int(match[3]):
            cents = _split(num2words(int(match[3])))
            forms = [g for f in forms for g in ((*f, *cents), (*f, "and", *cents, small))]
        return forms
    if decimal := _decimal(bare):
        return decimal
    if match := re.fullmatch(r"(\d+(?:\.\d+)?)%", bare):
        return [(*f, *tail) for f in _numeric(match[1]) for tail in (("percent",), ("per", "cent"))]
    if match := _DECADE.match(bare):
        high, low = divmod(int(match[1]), 100)
        last = _split(num2words(low)) if low else ("hundred",)
        last = (*_split(num2words(high)), *last) if len(match[1]) == 4 else _split(num2words(int(match[1])))
        if last[-1] in ("ten", "hundred"):
            return [(*last[:-1], last[-1] + "s")]
        return [(*last[:-1], re.sub(r"y$", "ies", last[-1]))]
    if match := re.fullmatch(r"(\d+)/(\d+)", bare):
        top, bottom = int(match[1]), int(match[2])
        if (top, bottom) == (1, 2):
            return [("a", "half"), ("one", "half")]
        ordinal = num2words(bottom, to="ordinal") + ("s" if top > 1 else "")
        return [(*_split(num2words(top)), *_split(ordinal))]
    return []


_ROMAN_VALUES = {"I": 1, "V": 5, "X": 10, "L": 50, "C": 100, "D": 500, "M": 1000}


def _roman(token: str) -> int:
    values = [_ROMAN_VALUES[c] for c in token]
    return sum(-v if i + 1 < len(values) and v < values[i + 1] else v for i, v in enumerate(values))


@lru_cache(maxsize=65_536)
def spoken_forms(token: str) -> tuple[Form, ...]:
    """All right readings of a written token, the plainest first; `((),)` for a token that is not read.

    Examples
    --------
    >>> spoken_forms("“Forty-two,”")
    (('forty', 'two'),)
    >>> ("nineteen", "oh", "four") in spoken_forms("1904")
    True
    >>> spoken_forms("Mr.")[0]
    ('mister',)
    >>> spoken_forms("—")
    ((),)
    """
    inner = token.strip("\"“”‘()[]{}<>.,;:!?…—–-_*’'")
    bare = plain(token)
    forms: list[Form] = []
    if token.strip("\"“”‘’'()[].,;:!?…") in SYMBOLS:
        forms += [_split(s) for s in SYMBOLS[token.strip("\"“”‘’'()[].,;:!?…")]]
    elif any(c.isdigit() for c in bare):
        symbol = token.strip("\"“”‘’'()[],;:!?….")
        forms += _numeric(symbol)
        if not forms:  # "12-gun", "B12": read part by part
            parts = re.findall(r"\d+|[^\W\d_]+", bare)
            options: list[Form] = [()]
            for part in parts:
                tails = _number_words(int(part)) if part.isdigit() else [(part,)]
                options = [(*o, *t) for o in options for t in tails][:8]
            forms += options
    elif bare in ABBREVIATIONS and (
        bare in ("mr", "mrs", "ms", "dr") or inner.endswith(".") or token.rstrip('"”’,;:!?)').endswith(".")
    ):
        forms += [_split(s) for s in ABBREVIATIONS[bare]]
    elif bare:
        if len(inner) > 1 and inner.isupper() and _ROMAN.match(inner):
            forms += _number_words(_roman(inner))[:1]
        words = tuple(p for p in re.split(r"[\s\-—–/…]+|\.{2,}", bare) if p.strip("'"))
        forms.append(tuple(w.strip("'.") or w for w in words))
        if re.fullmatch(r"(?:[a-z]\.)+[a-z]?", bare) or (len(inner) > 1 and inner.isupper() and len(inner) <= 4):
            forms.append(tuple(c for c in bare if c.isalpha()))
    unique = tuple(dict.fromkeys(f for f in forms if f))
    return unique or ((),)

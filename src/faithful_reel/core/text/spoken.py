"""Spoken forms: the ways a written word may rightly be read aloud.

A form is a tuple of plain lower-case words.  All forms of a token count as read.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from functools import lru_cache

from num2words import num2words

from faithful_reel.core.text.speech_data import (
    ABBREVIATIONS,
    MONEY,
    MONTHS,
    RULERS,
    SCALE_WORDS,
    SCALES,
    SPELLINGS,
    SYMBOLS,
    UNITS,
    WITHOUT_A_STOP,
)

Form = tuple[str, ...]

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
        "buoy boy",
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
_SAME_WORD = {word: min(group) for group in SPELLINGS for word in group if not any(word in h for h in HOMOPHONES)}
_DIGITS = ["oh", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine"]
_ROMAN = re.compile(r"^(?=[MDCLXVI])M{0,3}(CM|CD|D?C{0,3})(XC|XL|L?X{0,3})(IX|IV|V?I{0,3})$")
MOST_DIGITS = 40
_DECADE = re.compile(r"^[’']?(\d{2,4})[’']?s$")


def plain(text: str) -> str:
    """Lower case, straight apostrophes, accents and outer punctuation off."""
    text = text.replace("’", "'").replace("‘", "'").replace("`", "'")
    text = unicodedata.normalize("NFKD", text)
    text = "".join(c for c in text if not unicodedata.combining(c)).lower()
    return text.strip(" \t\"“”„‚«»‹›¿¡()[]{}<>.,;:!?…—–―-_*'/")


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
    if word in _SAME_WORD:
        return _SAME_WORD[word]
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
            forms += [(*_split(num2words(high)), "hundred", *link, *_split(num2words(low))) for link in (("and",), ())]
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


def _ordinal(value: int) -> Form:
    return _split(num2words(value, to="ordinal"))


def _amounts(bare: str) -> list[Form]:
    """A plain number, whole, decimal or a fraction, in words."""
    if re.fullmatch(r"\d{1,15}", bare):
        return _number_words(int(bare))
    return _decimal(bare) or _fraction(bare)


def _fraction(bare: str) -> list[Form]:
    match = re.fullmatch(r"(?:(\d+)[ -]?)??(\d+)/(\d+)", bare)
    if not match or int(match[3]) < 2 or int(match[3]) > 1000:
        return []
    top, bottom = int(match[2]), int(match[3])
    if bottom == 2:
        parts = [("half",)] if top == 1 else [(*_split(num2words(top)), "halves")]
    else:
        names = ["quarter", num2words(4, to="ordinal")] if bottom == 4 else [num2words(bottom, to="ordinal")]
        parts = [_split(name + ("s" if top > 1 else "")) for name in names]
        parts = [(*_split(num2words(top)), *p) for p in parts]
        if top == 1:
            parts += [("a", *p[1:]) for p in parts]
    if bottom == 2 and top == 1:
        parts = [("a", "half"), ("one", "half"), ("half",)]
    if match[1]:
        return [(*whole, "and", *p) for whole in _number_words(int(match[1])) for p in parts]
    return [*parts, (*_split(num2words(top)), "over", *_split(num2words(bottom)))]


def _time(hour: int, minute: int, half: str) -> list[Form]:
    head = _split(num2words(hour))
    tails: list[Form] = [_split(num2words(minute))] if minute >= 10 else [("oh", *_split(num2words(minute)))]
    if minute == 0:
        tails = [("o'clock",), (), *([("hundred",), ("hundred", "hours")] if not half else [])]
    forms = [(*head, *tail) for tail in tails]
    this, following = (_split(num2words((h - 1) % 12 + 1)) for h in (hour or 12, hour + 1))
    named = {15: ("quarter", "past"), 30: ("half", "past"), 45: ("quarter", "to")}
    if minute in named:
        forms.append((*named[minute], *(following if minute == 45 else this)))
        forms.append(("a", *forms[-1]))
    elif minute % 5 == 0 and minute:
        near = _split(num2words(minute if minute < 30 else 60 - minute))
        forms.append((*near, "past" if minute < 30 else "to", *(this if minute < 30 else following)))
    if half:
        forms += [(*f, half[0], "m") for f in forms]
        forms = [f for f in forms if f[-1] == "m"]
    return forms


def _date(day: int, month: int, year: str) -> list[Form]:
    months = "january february march april may june july august september october november december".split()
    if not (1 <= day <= 31 and 1 <= month <= 12):
        return []
    years = _numeric(year) if year else [()]
    heads = [("the", *_ordinal(day), "of", months[month - 1]), (*_ordinal(day), "of", months[month - 1]),
             (months[month - 1], *_ordinal(day)), (months[month - 1], "the", *_ordinal(day)),
             (*_ordinal(day), months[month - 1])]  # fmt: skip
    return [(*h, *y) for h in heads for y in years[:4]]


def _digits(bare: str) -> list[Form]:
    """Digit by digit, as a telephone number: with oh or zero, and doubles."""
    digits = [int(d) for d in bare if d.isdecimal()]
    plain_ones = tuple(_DIGITS[d] for d in digits)
    zero = tuple("zero" if d == 0 else _DIGITS[d] for d in digits)
    doubled: list[str] = []
    at = 0
    while at < len(digits):
        if digits[at : at + 1] == digits[at + 1 : at + 2]:
            doubled += ["double", _DIGITS[digits[at]]]
            at += 2
        else:
            doubled.append(_DIGITS[digits[at]])
            at += 1
    return list(dict.fromkeys([plain_ones, zero, tuple(doubled)]))


def _numeric(token: str) -> list[Form]:
    """Forms of a token that holds digits; empty where nothing fits."""
    bare = token.replace(",", "").replace("⁄", "/").lower()
    if re.search(r"\d{16}", bare):  # no number has a name any more: digit by digit, if anybody reads it at all
        return _digits(bare) if len(bare) <= MOST_DIGITS else []
    if bare.startswith(("-", "−", "–", "+")) and len(bare) > 1 and bare[1].isdigit():
        sign = ("plus",) if bare[0] == "+" else ("minus",)
        return [(*sign, *f) for f in _numeric(bare[1:])]
    if re.fullmatch(r"\d{1,15}", bare):
        forms = _number_words(int(bare))
        if (len(bare) >= 3 and "," not in token) or bare.startswith("0"):
            forms += _digits(bare)
        return forms
    if match := re.fullmatch(r"(\d+)(st|nd|rd|th)", bare):
        return [_ordinal(int(match[1])), ("the", *_ordinal(int(match[1])))]
    if match := re.fullmatch(r"(\d{1,2})(?:[:.](\d{2}))?(am|pm|a\.m|p\.m)", bare):
        return _time(int(match[1]), int(match[2] or 0), match[3]) if int(match[1]) < 25 and int(match[2] or 0) < 60 else []
    if match := re.fullmatch(r"(\d{1,2})[:.](\d{2})", bare):
        timed = _time(int(match[1]), int(match[2]), "") if int(match[1]) < 25 and int(match[2]) < 60 else []
        return timed + (_decimal(bare) if "." in bare else [])
    if match := re.fullmatch(r"(\d{1,2})[/.-](\d{1,2})[/.-](\d{4}|\d{2})", bare):
        a, b = int(match[1]), int(match[2])
        return [*_date(a, b, match[3]), *_date(b, a, match[3])] or _digits(bare)
    if match := re.fullmatch(r"(\d{4})-(\d{2})-(\d{2})", bare):
        return _date(int(match[3]), int(match[2]), match[1])
    if match := re.fullmatch(r"([£$€¥])(\d+(?:\.\d+)?)(mn|bn|tn|m|b|k)?", bare):
        return _money(*match.groups())
    if decimal := _decimal(bare):
        return decimal
    if match := _DECADE.match(bare):
        high, low = divmod(int(match[1]), 100)
        last = _split(num2words(low)) if low else ("hundred",)
        last = (*_split(num2words(high)), *last) if len(match[1]) == 4 else _split(num2words(int(match[1])))
        if last[-1] in ("ten", "hundred"):
            return [(*last[:-1], last[-1] + "s")]
        return [(*last[:-1], re.sub(r"y$", "ies", last[-1]))]
    if match := re.fullmatch(r"(\d+)['′](\d{1,2})[\"″]?", bare):  # a height
        feet, inches = _split(num2words(int(match[1]))), _split(num2words(int(match[2])))
        return [(*feet, unit, *inches, *tail) for unit in ("foot", "feet") for tail in ((), ("inches",), ("inch",))]
    if fraction := _fraction(bare):
        return fraction
    if match := re.fullmatch(r"(\d+(?:\.\d+)?(?:/\d+)?)(°[cf]?|%|[a-z/]+|[\"'])", bare):
        return _measured(match[1], match[2])
    if match := re.fullmatch(r"(\d+)[-–—](\d+)", bare):
        ends = [_numeric(part) for part in match.groups()]
        joined = [(*a, *between, *b) for a in ends[0][:4] for b in ends[1][:4] for between in (("to",), ())]
        return joined + (_digits(bare) if len(bare) >= 7 else [])
    if re.fullmatch(r"\+?[\d()]+(?:[-–.][\d()]+)+", bare):  # a telephone number
        return _digits(bare)
    return []


def _measured(amount: str, unit: str) -> list[Form]:
    if unit not in UNITS:
        return []
    one, many = UNITS[unit]
    forms = [(*f, *_split(name)) for f in _amounts(amount) for name in ((one, many) if amount != "1" else (one,))]
    if unit == "%":
        forms += [(*f, "per", "cent") for f in _amounts(amount)]
    if unit in ("mph", "km/h", "kph"):
        forms += [(*f, *_split(many.replace(" per ", " an "))) for f in _amounts(amount)]
    if unit == "p":
        forms += [(*f, "p") for f in _amounts(amount)]
    return forms


def _money(sign: str, amount: str, scale: str | None) -> list[Form]:
    one, many, small = MONEY[sign]
    whole, _, rest = amount.partition(".")
    if scale:
        return [(*f, SCALES[scale], name) for f in _amounts(amount) for name in (many, one)]
    if rest and len(rest) != 2:
        return [(*f, many) for f in _decimal(amount)]
    forms = [(*f, one if whole == "1" else many) for f in _number_words(int(whole))]
    if rest and int(rest):
        cents = _split(num2words(int(rest)))
        pounds = [g for f in forms for g in ((*f, *cents), (*f, "and", *cents, small), (*f, *cents, small), (*f, "and", *cents))]
        forms = pounds if int(whole) else [(*cents, small), *pounds]
        forms += [(*f, *cents) for f in _number_words(int(whole))]
    return forms


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
    symbol = token.strip("\"“”‘’'()[].,;:!?…")
    if symbol in SYMBOLS:
        forms += [_split(s) for s in SYMBOLS[symbol]]
    elif any(c.isdigit() for c in bare):
        outer = "“”‘()[],;:!?…." + ("" if "'" in token else '’"')  # 6'2" keeps its marks
        forms += _numeric(unicodedata.normalize("NFKC", _mixed(token.strip(outer))))
        if not forms:
            forms += _numeric(_mixed(inner).strip("'\""))
        if not forms:  # "12-gun", "B12": read part by part
            parts = re.findall(r"\d+|[^\W\d_]+", bare)
            options: list[Form] = [()]
            for part in parts:
                tails = _number_words(int(part)) if part.isdecimal() and len(part) < 16 else [(part,)]
                options = [(*o, *t) for o in options for t in tails][:8]
            forms += options
    elif bare in ABBREVIATIONS and (bare in WITHOUT_A_STOP or inner.endswith(".") or token.rstrip('"”’,;:!?)').endswith(".")):
        forms += [_split(s) for s in ABBREVIATIONS[bare]]
        if bare.replace(".", "").isalpha() and bare not in ("mr", "mrs", "dr", "st"):
            forms.append((bare.replace(".", ""),))
    elif bare:
        if len(inner) > 1 and inner.isupper() and _ROMAN.match(inner):
            forms += _number_words(_roman(inner))[:1]
            forms += [("the", *_ordinal(_roman(inner))), _ordinal(_roman(inner))]
        words = tuple(p for p in re.split(r"[\s\-—–/…&+@]+|\.{2,}", bare) if p.strip("'"))
        forms.append(tuple(w.strip("'.") or w for w in words))
        joints = re.findall(r"[&+@/]", bare)
        if joints and len(words) > 1:  # "and/or", "R&B"
            spoken = [SYMBOLS[j][0] for j in joints]
            between = [*map(_split, spoken), *[()] * len(words)]
            forms.append(tuple(x for w, joint in zip(words, between, strict=False) for x in (w.strip("'."), *joint)))
        capitals = re.fullmatch(r"([A-Z]{2,6})(?:['’]?s)?", inner)
        if capitals or re.fullmatch(r"(?:[a-z]\.)+[a-z]?", bare):
            letters = tuple(c.lower() for c in (capitals[1] if capitals else bare) if c.isalpha())
            forms.append(letters)
            if capitals and inner[-1] == "s":
                forms += [(*letters[:-1], letters[-1] + "s"), (*letters[:-1], letters[-1] + "'s"), (*letters, "s")]
    unique = tuple(dict.fromkeys(f for f in forms if f))
    return unique or ((),)


def _mixed(token: str) -> str:
    """Write 2½ as 2 1/2: a fraction in one letter stands apart from the number before it."""
    return re.sub(r"(\d)(?=[¼-¾⅐-⅞])", r"\1 ", token)


def readings(tokens: Sequence[str]) -> list[tuple[Form, ...]]:
    """The right readings of every token where its neighbours matter as well: dates, measures, money, reigns.

    Examples
    --------
    >>> ("the", "third", "of") in readings(["3", "March"])[0]
    True
    >>> ("million", "pounds") in readings(["£3", "million"])[1]
    True
    >>> ("kilograms",) in readings(["5", "kg"])[1]
    True
    """
    found = []
    bare = [plain(t) for t in tokens]
    for i, token in enumerate(tokens):
        forms = list(spoken_forms(token))
        before, after = bare[i - 1] if i else "", bare[i + 1] if i + 1 < len(tokens) else ""
        stripped = token.strip("“”‘’()[],;:!?….\"'")
        if re.fullmatch(r"\d{1,2}(?:st|nd|rd|th)?", stripped) and (before in MONTHS or after in MONTHS):
            day = int(re.match(r"\d+", stripped)[0])  # type: ignore[index]
            if 1 <= day <= 31:
                of = [("of",)] if after in MONTHS else []
                forms += [(*the, *_ordinal(day), *o) for the in ((), ("the",)) for o in ((), *of)]
        if bare[i] in SCALE_WORDS and i and tokens[i - 1].lstrip("“‘(")[:1] in MONEY:
            one, many, _ = MONEY[tokens[i - 1].lstrip("“‘(")[0]]
            forms += [(bare[i], many), (bare[i], one)]
        if after in SCALE_WORDS and stripped[:1] in MONEY:
            forms = [*_amounts(stripped[1:].replace(",", "")), *forms]
        if re.fullmatch(r"[£$€¥]?[\d.,/]+|[¼-¾]", before) and token.strip(".,;:!?”)").lower() in UNITS:
            one, many = UNITS[token.strip(".,;:!?”)").lower()]
            forms += [_split(many), _split(one)]
        if stripped.isupper() and _ROMAN.match(stripped) and stripped != "I" and before in RULERS:
            forms = [f for f in forms if f[:1] != ("the",)] or forms
        if stripped == "I" and i and before in RULERS:
            forms = [("one",), *forms]
        if stripped == "I" and i and tokens[i - 1][:1].isupper() and before not in RULERS:
            forms += [("the", "first"), ("first",)]
        found.append(tuple(dict.fromkeys(forms)))
    return found

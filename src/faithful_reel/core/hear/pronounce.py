"""Pronunciations: the aligner's dictionary, and a guess for words that it does not hold."""

from __future__ import annotations

import importlib.util
import re
from collections.abc import Iterable, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from faithful_reel.core.text.spoken import plain, spelling, spoken_forms

_GRAPHEMES = ["<pad>", "<unk>", "</s>", *"abcdefghijklmnopqrstuvwxyz"]
_PHONEMES = [
    "<pad>",
    "<unk>",
    "<s>",
    "</s>",
    "AA0",
    "AA1",
    "AA2",
    "AE0",
    "AE1",
    "AE2",
    "AH0",
    "AH1",
    "AH2",
    "AO0",
    "AO1",
    "AO2",
    "AW0",
    "AW1",
    "AW2",
    "AY0",
    "AY1",
    "AY2",
    "B",
    "CH",
    "D",
    "DH",
    "EH0",
    "EH1",
    "EH2",
    "ER0",
    "ER1",
    "ER2",
    "EY0",
    "EY1",
    "EY2",
    "F",
    "G",
    "HH",
    "IH0",
    "IH1",
    "IH2",
    "IY0",
    "IY1",
    "IY2",
    "JH",
    "K",
    "L",
    "M",
    "N",
    "NG",
    "OW0",
    "OW1",
    "OW2",
    "OY0",
    "OY1",
    "OY2",
    "P",
    "R",
    "S",
    "SH",
    "T",
    "TH",
    "UH0",
    "UH1",
    "UH2",
    "UW",
    "UW0",
    "UW1",
    "UW2",
    "V",
    "W",
    "Y",
    "Z",
    "ZH",
]
_LETTERS = {
    "a": "EY", "b": "B IY", "c": "S IY", "d": "D IY", "e": "IY", "f": "EH F", "g": "JH IY", "h": "EY CH", "i": "AY",
    "j": "JH EY", "k": "K EY", "l": "EH L", "m": "EH M", "n": "EH N", "o": "OW", "p": "P IY", "q": "K Y UW", "r": "AA R",
    "s": "EH S", "t": "T IY", "u": "Y UW", "v": "V IY", "w": "D AH B AH L Y UW", "x": "EH K S", "y": "W AY", "z": "Z IY",
}  # fmt: skip


@lru_cache(maxsize=1)
def _dictionary() -> dict[str, str]:
    from pocketsphinx import get_model_path

    found: dict[str, str] = {}
    with Path(get_model_path("en-us/cmudict-en-us.dict")).open(encoding="utf-8") as file:
        for line in file:
            word, _, phones = line.strip().partition(" ")
            if "(" not in word:
                found[word] = phones
    return found


@lru_cache(maxsize=1)
def _network() -> dict[str, NDArray[np.float32]] | None:
    """The weights that g2p-en carries; its own module is not imported, since that would download data."""
    spec = importlib.util.find_spec("g2p_en")
    if spec is None or not spec.origin:
        return None
    with np.load(Path(spec.origin).parent / "checkpoint20.npz") as file:
        return {name: file[name] for name in file.files}


def _step(x: Any, h: Any, w: dict[str, Any], side: str) -> Any:
    """One step of a gated recurrent unit (Cho et al., 2014), in the layout of the carried weights."""
    given = x @ w[f"{side}_w_ih"].T + w[f"{side}_b_ih"]
    held = h @ w[f"{side}_w_hh"].T + w[f"{side}_b_hh"]
    third = len(h)
    gates = 1 / (1 + np.exp(-(given[: 2 * third] + held[: 2 * third])))
    reset, update = gates[:third], gates[third:]
    fresh = np.tanh(given[2 * third :] + reset * held[2 * third :])
    return (1 - update) * fresh + update * h


def _guess(word: str) -> str:
    w = _network()
    if w is None:
        return " ".join(_LETTERS.get(c, "") for c in word).strip()
    h = np.zeros(w["enc_w_hh"].shape[1], np.float32)
    for c in [*word, "</s>"]:
        h = _step(w["enc_emb"][_GRAPHEMES.index(c) if c in _GRAPHEMES else 1], h, w, "enc")
    phones: list[str] = []
    last = _PHONEMES.index("<s>")
    for _ in range(20):
        h = _step(w["dec_emb"][last], h, w, "dec")
        last = int(np.argmax(w["fc_w"] @ h + w["fc_b"]))
        if last == 3:
            break
        phones.append(_PHONEMES[last].rstrip("012"))
    return " ".join(p for p in phones if not p.startswith("<"))


def phones_read(tokens: Iterable[str]) -> tuple[str, ...]:
    """The phones of a row of tokens in their plainest spoken form, one word after another."""
    return tuple(p for t in tokens for word in spoken_forms(t)[0] for p in phones_of(word))


@lru_cache(maxsize=65_536)
def phones_of(word: str) -> tuple[str, ...]:
    """ARPABET phones, without stress, of one plain lower-case word; never empty for a word with letters."""
    word = re.sub(r"[^a-z']", "", plain(word))
    if not word.strip("'"):
        return ()
    dictionary = _dictionary()
    for form in (word, word.replace("'", ""), spelling(word)):
        if form in dictionary:
            return tuple(dictionary[form].split())
    if word.endswith("'s") and (stem := phones_of(word[:-2])):
        return (*stem, "S" if stem[-1] in ("P", "T", "K", "F", "TH") else "Z")
    for ending, sounds in _ENDINGS.items():
        bare = word.removesuffix(ending)
        if bare != word and len(bare) > 2:
            stems = [bare, re.sub(r"(.)\1$", r"\1", bare), bare + "e"]
            if re.search("[^aeiou][aeiou][^aeiouwxy]$", bare):
                stems.reverse()  # "riper" is from "ripe", "ripper" from "rip"
            if bare.endswith("i"):
                stems.insert(0, bare[:-1] + "y")
            known = next((dictionary[form] for form in stems if form in dictionary), None)
            if known:
                return (*known.split(), *sounds.split())
    return tuple(_guess(word.replace("'", "")).split()) or ("AH",)


_ENDINGS = {
    "est": "IH S T", "'st": "S T", "eth": "IH TH", "ing": "IH NG", "er": "ER", "ness": "N AH S", "less": "L AH S", "ly": "L IY",
}  # fmt: skip
"""How words that the dictionary only holds without their ending end; `est` and `eth` of verbs too, as older books have them."""
_CLASS = {p: i for i, group in enumerate((
    "AA AO AH OW", "AE EH", "IH IY EY", "UH UW", "ER R", "AW AY OY", "P B", "T D DH TH", "K G", "S Z", "SH ZH CH JH",
    "F V", "M N NG", "L", "W", "Y", "HH",
)) for p in group.split()}  # fmt: skip
_VOWELS = frozenset(["AA", "AE", "AH", "AO", "AW", "AY", "EH", "ER", "EY", "IH", "IY", "OW", "OY", "UH", "UW"])


_CODES = {p: i for i, p in enumerate(_CLASS)}


def _swaps() -> NDArray[np.float64]:
    costs = np.ones((len(_CODES), len(_CODES)))
    for p, i in _CODES.items():
        for q, j in _CODES.items():
            if p == q:
                costs[i, j] = 0.0
            elif _CLASS[p] == _CLASS[q]:
                costs[i, j] = 0.4
            elif p in _VOWELS and q in _VOWELS:
                costs[i, j] = 0.7
    return costs


_SWAPS = _swaps()


@numba.njit(cache=True, nogil=True)
def _distance(a, b, swaps, row):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    """Edit distance of two rows of codes; `row` is room for one more than `b` holds."""
    for j in range(b.size + 1):
        row[j] = 0.9 * j
    for i in range(a.size):
        diagonal = row[0]
        row[0] = 0.9 * (i + 1)
        for j in range(b.size):
            best = min(diagonal + swaps[a[i], b[j]], row[j + 1] + 0.9, row[j] + 0.9)
            diagonal = row[j + 1]
            row[j + 1] = best
    return row[b.size]


@numba.njit(cache=True, nogil=True)
def _distances(a, a_at, b, b_at, swaps):  # type: ignore[no-untyped-def]  # pragma: no cover - compiled
    out = np.empty((a_at.size - 1, b_at.size - 1))
    row = np.empty(b.size + 1)
    for i in range(a_at.size - 1):
        one = a[a_at[i] : a_at[i + 1]]
        for j in range(b_at.size - 1):
            other = b[b_at[j] : b_at[j + 1]]
            out[i, j] = _distance(one, other, swaps, row) / max(1, one.size, other.size)
    return out


def _coded(words: Sequence[tuple[str, ...]]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows of phones as one row of codes, and where each begins; the last is the end."""
    codes = np.array([_CODES[p] for word in words for p in word], np.int64)
    return codes, np.cumsum([0, *map(len, words)])


def phone_distances(a: Sequence[tuple[str, ...]], b: Sequence[tuple[str, ...]]) -> NDArray[np.float64]:
    """Edit distances between all of `a` and all of `b`, an (a, b) array, by the length of the longer: about 0 to 1.

    Near sounds cost 0.4, two different vowels 0.7, others 1; a sound more or less 0.9.
    """
    distances: NDArray[np.float64] = _distances(*_coded(a), *_coded(b), _SWAPS)
    return distances


def phone_distance(a: tuple[str, ...], b: tuple[str, ...]) -> float:
    """Edit distance between two rows of phones, as in `phone_distances` but not by their length."""
    return float(phone_distances([a], [b])[0, 0]) * max(1, len(a), len(b))


def is_word(word: str) -> bool:
    """Whether the dictionary holds this word: the ear writes down sounds that are none."""
    word = plain(word)
    return (
        not word
        or word.isdigit()
        or any(f in _dictionary() for f in (word, word.replace("'", ""), spelling(word)))
        or (word.endswith("'s") and word[:-2] in _dictionary())
    )


@lru_cache(maxsize=1)
def common_words() -> frozenset[str]:
    """Frequent ordinary words: capitalised, they start a sentence and are no name.  Own list."""
    text = (
        "a about above after again against all along already also always among an and another any anyone are around as ask asked "
        "at away back be because been before began behind being below beside between both but by called came can children city come "
        "could count day dear did do does done door down each early either end enough even every everyone everything eyes face few "
        "find first five for forty found four friend from gave get give go god going gone good got great had half hand hands has have "
        "having he head hear heard her here high him his home house how however i if in inside into is it its itself just keep knew "
        "know land last late later lay least left less let life light like listen little long look looked made make man many may me "
        "men might mind miss moment more morning most mother much must my near never new next night nine no nobody none nor not nothing "
        "now of off often oh old on once one only open or other our out over own part people perhaps place put ran rather read right "
        "room said same saw say school sea seemed seen set seven she should side since six sky slowly small so some someone something "
        "soon still stood street such suddenly sun take taken tell ten than that the their them then there these they thing things "
        "think this those though thought three through time to together told too took town toward towards tree turned two under until "
        "up upon us very voice walk walked wall want wanted was watch water way we well went were what when where whether which while "
        "white who why wife will wind window with within without woman women word work world would year years yes yet you young your "
        "chapter part book children write out tide gull low visitor sunrise"
    )
    return frozenset(text.split())

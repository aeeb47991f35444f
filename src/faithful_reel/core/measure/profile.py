"""Delivery profiles as data, and their verdicts."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, replace
from importlib import resources
from pathlib import Path
from typing import Any

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.measure.levels import Figures

MOST_BYTES = 1 << 20


@dataclass(frozen=True, slots=True)
class Profile:
    """Limits of a delivery.  A limit that is None is not asked for."""

    name: str
    rms_db: tuple[float, float] | None
    peak_db: float | None
    true_peak_db: float | None
    lufs: tuple[float, float] | None
    noise_floor_db: float | None
    head_s: tuple[float, float] | None
    tail_s: tuple[float, float] | None
    longest_s: float | None
    rates: tuple[int, ...]
    channels: tuple[int, ...]
    codecs: tuple[str, ...]
    bit_rate: int | None
    cbr: bool
    target_rms_db: float
    make_head_s: float
    make_tail_s: float


@dataclass(frozen=True, slots=True)
class Verdict:
    """One rule, its limit in words, the value found, and whether it passes."""

    rule: str
    limit: str
    value: str | float | int
    passed: bool

    def as_json(self) -> dict[str, object]:
        """As documented in docs/headless.md."""
        return {"rule": self.rule, "limit": self.limit, "value": self.value, "pass": self.passed}


def limits_key(profile: Profile) -> str:
    """A short hash of a profile's limits: two of the same name may differ."""
    return hashlib.sha256(repr(replace(profile, name="")).encode()).hexdigest()[:8]


def profile_names() -> list[str]:
    """Names of the profiles that ship with the program."""
    folder = resources.files("faithful_reel") / "assets" / "profiles"
    return sorted(p.name.removesuffix(".json") for p in folder.iterdir() if p.name.endswith(".json"))


def load_profile(name: str) -> Profile:
    """A shipped profile by name, or one from a JSON file.

    Raises
    ------
    FileProblem
        No such profile or file, or it does not hold the fields that a profile has.
    """
    shipped = resources.files("faithful_reel") / "assets" / "profiles" / f"{name}.json"
    try:
        if "/" not in name and shipped.is_file():
            text = shipped.read_text(encoding="utf-8")
        elif Path(name).is_file():
            text = Path(name).read_text(encoding="utf-8") if Path(name).stat().st_size <= MOST_BYTES else ""
        else:
            raise FileProblem(f"There is no profile {name!r}. Use one of {', '.join(profile_names())}, or a JSON file.")
        return _profile(json.loads(text))
    except (UnicodeDecodeError, RecursionError, KeyError, TypeError, ValueError, OverflowError) as problem:
        why = str(problem)[:80]
        raise FileProblem(
            f"The profile {Path(name).name[:80]} is not a readable profile ({why}). Compare it with docs/profiles.md."
        ) from problem
    except OSError as problem:
        raise FileProblem(f"The profile {Path(name).name[:80]} can not be read ({problem.strerror}).") from problem


def _profile(fields: Any) -> Profile:
    """A profile from its JSON; raises KeyError, TypeError or ValueError where that makes no sense."""
    if not isinstance(fields, dict):
        raise TypeError("it is no object")

    def number(key: str, least: float, most: float, value: Any = None) -> float:
        value = fields[key] if value is None else value
        if isinstance(value, bool) or not isinstance(value, int | float) or not least <= value <= most:  # NaN is in no range
            raise ValueError(f"{key} must be a number from {least:g} to {most:g}")
        return float(value)

    def maybe(key: str, least: float, most: float) -> float | None:
        return None if fields.get(key) is None else number(key, least, most)

    def pair(key: str, least: float, most: float) -> tuple[float, float] | None:
        limits = fields.get(key)
        if limits is None:
            return None
        if not isinstance(limits, list) or len(limits) != 2:
            raise ValueError(f"{key} must be two numbers")
        low, high = (number(key, least, most, value) for value in limits)
        if low > high:
            raise ValueError(f"{key} must begin with the lower number")
        return low, high

    def several(key: str, least: int, most: int) -> tuple[int, ...]:
        values = fields[key]
        if not isinstance(values, list) or any(
            isinstance(v, bool) or not isinstance(v, int) or not least <= v <= most for v in values
        ):
            raise ValueError(f"{key} must be a list of whole numbers from {least} to {most}")
        return tuple(values)

    codecs = fields["codecs"]
    if not isinstance(codecs, list) or not all(isinstance(c, str) for c in codecs):
        raise ValueError("codecs must be a list of names")
    if not isinstance(fields["name"], str) or not 0 < len(fields["name"]) <= 200:
        raise ValueError("name must be a short text")
    bit_rate = maybe("bit_rate", 8_000, 10_000_000)
    return Profile(
        name=fields["name"],
        rms_db=pair("rms_db", -100, 0),
        peak_db=maybe("peak_db", -60, 0),
        true_peak_db=maybe("true_peak_db", -60, 0),
        lufs=pair("lufs", -70, 0),
        noise_floor_db=maybe("noise_floor_db", -150, 0),
        head_s=pair("head_s", 0, 600),
        tail_s=pair("tail_s", 0, 600),
        longest_s=maybe("longest_s", 1, 1_000_000),
        rates=several("rates", 8_000, 384_000),
        channels=several("channels", 1, 64),
        codecs=tuple(codecs),
        bit_rate=None if bit_rate is None else round(bit_rate),
        cbr=bool(fields.get("cbr", False)),
        target_rms_db=number("target_rms_db", -60, -6),
        make_head_s=number("make_head_s", 0.2, 60),
        make_tail_s=number("make_tail_s", 0.4, 60),
    )


def verdicts(figures: Figures, profile: Profile) -> tuple[Verdict, ...]:
    """Hold the figures against every limit that the profile names."""
    found: list[Verdict] = []

    def within(rule: str, limits: tuple[float, float] | None, value: float, unit: str, slack: float = 0.0) -> None:
        if limits:
            passed = limits[0] - slack <= value <= limits[1] + slack
            found.append(Verdict(rule, f"{limits[0]:g} to {limits[1]:g} {unit}", round(value, 2), passed))

    def at_most(rule: str, limit: float | None, value: float, unit: str) -> None:
        if limit is not None:
            found.append(Verdict(rule, f"at most {limit:g} {unit}", round(value, 2), value <= limit))

    within("rms", profile.rms_db, figures.rms_db, "dB")
    at_most("peak", profile.peak_db, figures.peak_db, "dB")
    at_most("true_peak", profile.true_peak_db, figures.true_peak_db, "dBTP")
    within("loudness", profile.lufs, figures.lufs, "LUFS")
    at_most("noise_floor", profile.noise_floor_db, figures.noise_floor_db, "dB")
    if profile.noise_floor_db is not None:
        at_most("pause_floor", profile.noise_floor_db, figures.pause_floor_db, "dB")
        found.append(Verdict("dead_silence", "none", f"{figures.dead_s:g} s" if figures.dead_s else "none", not figures.dead_s))
    within("head", profile.head_s, figures.head_s, "s", slack=0.05)  # head and tail are found in 50 ms steps
    within("tail", profile.tail_s, figures.tail_s, "s", slack=0.05)
    at_most("length", profile.longest_s, figures.seconds, "s")
    if profile.rates:
        found.append(Verdict("rate", " or ".join(f"{r} Hz" for r in profile.rates), figures.rate, figures.rate in profile.rates))
    if profile.channels or figures.dead_channels or not figures.channels_fit:
        odd = f"{figures.dead_channels} of them dead" if figures.dead_channels else figures.odd_channels
        fits = figures.channels in (profile.channels or [figures.channels]) and not figures.dead_channels and figures.channels_fit
        told = f"{figures.channels}, {odd}" if odd else figures.channels
        found.append(Verdict("channels", " or ".join(map(str, profile.channels)) or "that go together", told, fits))
    if profile.codecs and figures.codec:
        found.append(Verdict("codec", " or ".join(profile.codecs), figures.codec, figures.codec in profile.codecs))
    if profile.bit_rate and figures.codec == "mp3":
        found.append(
            Verdict(
                "bit_rate", f"at least {profile.bit_rate // 1000} kbit/s", figures.bit_rate, figures.bit_rate >= profile.bit_rate
            )
        )
        if profile.cbr:
            found.append(Verdict("constant_bit_rate", "constant", "constant" if figures.cbr else "variable", bool(figures.cbr)))
    return tuple(found)

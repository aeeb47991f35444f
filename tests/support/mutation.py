"""Spoiling files at random."""

from __future__ import annotations

import random


def mutated(raw: bytes, rng: random.Random, *, heads: bool = False) -> bytes:
    """A file with bytes changed, cut out, doubled, made of noise, or the end missing; `heads`: mostly near its beginning."""
    data = bytearray(raw)
    for _ in range(rng.randint(1, 4)):
        reach = min(len(data), rng.choice([64, 512, len(data)])) if heads else len(data)
        at = rng.randrange(reach or 1)
        size = rng.choice([1, 2, 8, 64, 1024, 5000])
        match rng.randrange(5):
            case 0:
                data[at : at + size] = rng.randbytes(size)
            case 1:
                del data[at : at + size]
            case 2:
                data[at:at] = data[at : at + size]
            case 3:
                data[at : at + 4] = rng.choice([b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"<!--"])
            case _:
                del data[max(at, 8) :]
    return bytes(data)

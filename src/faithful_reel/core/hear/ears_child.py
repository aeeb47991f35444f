"""The helper that hears: it holds the models it is asked about, two questions at a time."""

from __future__ import annotations

import ctypes
import threading
from pathlib import Path

from faithful_reel.core.hear.helper import give_back, serve
from faithful_reel.core.hear.third_ear import ThirdEar
from faithful_reel.core.hear.windowed import Row, Windowed
from faithful_reel.core.units import Signal

Recipe = tuple[str, str, bool]
"""The model's folder, its language, and whether it hears in windows."""
GIVE_BACK_EVERY = 2
"""Answers between two times that free memory is given back."""
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
"""Of glibc's malloc.h."""
ALONE, TOGETHER = 8 << 20, 1 << 20
"""Bytes from which on a model alone, and one of several, is given memory that goes back at once: that takes longer."""


class Hearing:
    """The models, loaded when they are first asked about."""

    def __init__(self) -> None:
        self._models: dict[Recipe, Windowed | ThirdEar] = {}
        self._loading = threading.Lock()
        self._answered = 0

    def heard(self, asked: tuple[Recipe, Signal]) -> list[Row]:
        """What the model of a recipe hears in a stretch of sound, (n,) at 16 kHz."""
        recipe, audio = asked
        rows = self._model(recipe).words(audio)
        self._answered += 1
        if self._answered % GIVE_BACK_EVERY == 0:
            give_back()
        return rows

    def _model(self, recipe: Recipe) -> Windowed | ThirdEar:
        with self._loading:
            if recipe not in self._models:
                folder, language, windowed = recipe
                _set_allocator({_MMAP_THRESHOLD: TOGETHER if self._models else ALONE})
                self._models[recipe] = Windowed(Path(folder), language) if windowed else ThirdEar(Path(folder))
                give_back()  # the weights were read in another type than they are kept in
            return self._models[recipe]


def _set_allocator(options: dict[int, int]) -> None:
    """Have memory given back: else every thread keeps what its largest chunk took."""
    libc = ctypes.CDLL(None)
    if hasattr(libc, "mallopt"):
        for option, value in options.items():
            libc.mallopt(option, value)


if __name__ == "__main__":
    _set_allocator({_ARENA_MAX: 2, _TRIM_THRESHOLD: 4 << 20})
    serve(Hearing().heard)

"""The splice panel: what it says of a join."""

from __future__ import annotations

import pytest

from faithful_reel.app.splice.panel import beside
from faithful_reel.core.splice.seam import Seam


@pytest.mark.parametrize(
    ("seam", "told"),
    [
        (Seam(-5.0, 3.0, 6.0, 2.0), "within natural"),
        (Seam(-5.9, 3.0, 6.0, 2.0), "close to natural"),
        (Seam(-5.0, 3.0, 7.3, 2.0), "stands out"),
        (Seam(-5.0, 3.0, 6.0, 4.1), "stands out"),
    ],
)
def test_a_join_is_told_beside_natural_boundaries(seam, told):
    assert beside(seam, Seam(5.0, 4.0, 6.0, 4.0)) == told

"""Two thousand editors, each doing a dozen and a half acts, against arrays of sample identities that know nothing of the program.

No act takes away, moves or changes a sample of a lane that was not marked without having asked or told; see `support.model`.
"""

from __future__ import annotations

import pytest
from support.model import Editor

SHARDS, EACH, ACTS = 10, 200, 16


@pytest.mark.slow
@pytest.mark.parametrize("shard", range(SHARDS))
def test_no_sound_goes_unasked_and_lanes_stay_in_step(shard):
    wrong = {seed: told for seed in range(shard * EACH, (shard + 1) * EACH) if (told := Editor(seed).run(ACTS))}
    assert not wrong

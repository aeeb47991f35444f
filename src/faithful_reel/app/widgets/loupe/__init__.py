"""The loupe: the spot under the cursor, as close as single samples; waveform or spectrogram, lanes under each other."""

from faithful_reel.app.widgets.loupe.content import LoupeContent, LoupeLane
from faithful_reel.app.widgets.loupe.loupe import Loupe

__all__ = ["Loupe", "LoupeContent", "LoupeLane"]

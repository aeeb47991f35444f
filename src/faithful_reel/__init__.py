"""Faithful Reel: proof, splice and master audiobook narration against its manuscript."""

__version__ = "0.1.0"

"""Audio files: opening, decoding, resampling, encoding, overviews, room tone."""

"""Levels, loudness, noise floor and delivery profiles."""

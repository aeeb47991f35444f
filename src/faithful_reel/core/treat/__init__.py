"""Treatments of sound: low cut, noise, dynamics, limiting."""

"""Treatments of sound: each measures what comes to it, treats that without moving time, and says what it did."""

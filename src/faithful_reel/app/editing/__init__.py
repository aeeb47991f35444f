"""Editing the sound: the span, the cursor, and what is done with them."""

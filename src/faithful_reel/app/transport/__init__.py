"""Listening: where the sound is, how fast and how loud it plays, and the loupe that shows it close up."""

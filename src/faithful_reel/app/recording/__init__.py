"""A line is recorded at the desk: from the sound input, or by the stand-in booth."""

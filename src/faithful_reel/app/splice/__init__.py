"""The Splice desk: a take goes in."""

"""The Master desk: figures against the profile."""

"""The Release desk: finished files and their check."""

"""Placing a take at word boundaries so that the join can not be found."""

"""Widgets that know no book."""

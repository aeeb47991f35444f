"""A chapter brought to a delivery profile."""

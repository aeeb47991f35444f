"""Delivery files, tags, reports and the independent check."""

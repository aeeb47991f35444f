"""The window: desks, galley, loupe, docket; computes nothing."""

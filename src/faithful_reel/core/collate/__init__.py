"""What was heard against what is written."""

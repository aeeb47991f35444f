"""What was said, when, and how sure: recognition and alignment."""

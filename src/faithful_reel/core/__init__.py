"""What Faithful Reel knows and computes; imports no interface code."""

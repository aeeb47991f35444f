"""What is done on a book's chapters: where words stand, mending, rough cut, placing takes, search, reports."""

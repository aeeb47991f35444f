"""Manuscripts: chapters, sentences, words and their spoken forms."""

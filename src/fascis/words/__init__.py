"""Texts for people: sentences in their language, figures and dates by their locale."""

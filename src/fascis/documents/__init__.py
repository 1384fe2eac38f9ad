"""Formats that refer to media: empty until the slice that reads them; its place in the house is kept."""

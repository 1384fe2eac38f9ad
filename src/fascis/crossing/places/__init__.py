"""Locations: the old place, staging, the arrived library; and what changed there."""

"""Turning a plan into a crossing."""

"""Measuring, preparing, describing and safely removing a drive."""

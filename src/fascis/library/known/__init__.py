"""Libraries that are known, where they stand, and those that are recognised."""

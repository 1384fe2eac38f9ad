"""From a chosen library to a crossing that starts."""

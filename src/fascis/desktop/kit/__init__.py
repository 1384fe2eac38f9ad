"""Common parts of all views: theme, small widgets, the side panel's frame, tasks."""

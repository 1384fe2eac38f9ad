"""What every view is made of: theme, small pieces, the side panel's frame, tasks."""

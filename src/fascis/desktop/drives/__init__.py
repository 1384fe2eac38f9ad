"""A drive in the side panel: looked at, mounted, measured, prepared, removed."""

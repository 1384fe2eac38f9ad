"""A drive in the side panel: examining, mounting, measuring, preparing, removing."""

"""The view Relink: what is lost, and where it was found."""

"""Documents of unknown make, and a person's confirmation of where they keep their paths."""

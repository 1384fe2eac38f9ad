"""Documents of unknown make, and a person's yes to where they keep their paths."""

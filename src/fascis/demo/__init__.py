"""The demo: the world of a two-person studio that documents a river being set free."""

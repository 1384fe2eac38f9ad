"""The demo: a two-person studio that documents a river being set free."""

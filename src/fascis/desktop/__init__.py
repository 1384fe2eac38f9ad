"""The window. The only room that imports Qt; it asks the core, shows, and passes decisions on."""

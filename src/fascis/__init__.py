"""Fascis keeps a body of photo or video work whole while it moves from one drive to another."""

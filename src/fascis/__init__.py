"""Fascis relocates a body of photo or video work to another drive, and keeps it whole."""

"""Known libraries, their locations, and recognising libraries."""

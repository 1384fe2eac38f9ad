"""Libraries: survey, roles, strands, identity, and the register of known ones."""

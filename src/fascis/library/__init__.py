"""What a library is: survey, roles, strands, identity, and the register of those that are known."""

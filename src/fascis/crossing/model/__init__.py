"""What a crossing is made of: states, events, fates, problems. Knows no file and no journal."""

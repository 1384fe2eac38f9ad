"""The terms of a crossing: states, events, fates, problems. Independent of files and journals."""

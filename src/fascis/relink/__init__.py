"""Lost references found again: empty until the slice that does it; its place in the house is kept."""

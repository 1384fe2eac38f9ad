"""Records of what a crossing did."""

"""What is done for a drive: measured, prepared, described, removed safely."""

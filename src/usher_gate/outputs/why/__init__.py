"""What why prints: one file for each form."""

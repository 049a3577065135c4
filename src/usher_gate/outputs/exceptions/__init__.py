"""What exceptions prints: one file for each form."""

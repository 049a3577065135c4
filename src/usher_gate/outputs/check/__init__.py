"""What check prints: one file for each form."""

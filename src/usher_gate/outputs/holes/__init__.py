"""What holes prints: one file for each form."""

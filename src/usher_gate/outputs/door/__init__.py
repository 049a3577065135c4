"""What door prints: one file for each form."""

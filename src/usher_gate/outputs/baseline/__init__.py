"""What baseline prints: one file for each form."""

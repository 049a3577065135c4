"""What mend prints: one file for each form."""

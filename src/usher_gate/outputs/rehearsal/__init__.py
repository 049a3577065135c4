"""What rehearse prints: one file for each form."""

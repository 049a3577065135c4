"""What sign-in prints: one file for each form."""

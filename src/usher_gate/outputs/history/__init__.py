"""What history prints: one file for each form."""

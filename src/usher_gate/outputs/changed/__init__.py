"""What rehearse prints of a file of changes: one file for each form."""

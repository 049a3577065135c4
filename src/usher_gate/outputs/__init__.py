"""What results look like: one file for each format."""

"""The page for people who never open a terminal: one HTML file that needs nothing else."""

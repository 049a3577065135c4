"""Which guests have to be reviewed, who is asked about them, and what follows from the answers."""

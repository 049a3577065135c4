"""What guests --read prints of the answers: one file for each form."""

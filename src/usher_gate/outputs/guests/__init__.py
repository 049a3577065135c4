"""What guests prints of people who is there and who has to be asked: one file for each form."""

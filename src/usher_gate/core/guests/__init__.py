"""Which guests have to be asked about, of whom, and what their answers come to."""

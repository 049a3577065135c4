"""What is known of an organisation at one time, as columns, and who is meant when people are chosen."""

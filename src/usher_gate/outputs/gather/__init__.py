"""What gather --try prints."""

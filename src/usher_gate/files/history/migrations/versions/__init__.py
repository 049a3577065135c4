"""The upgrades, in order."""

"""Since when everything drifts, what is new and what came back, and a record that cannot be altered unnoticed."""

"""A practice ground: a small simulated directory and service on this machine, which can be asked to misbehave."""

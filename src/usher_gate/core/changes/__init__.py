"""Trying changes before they are made: a change is applied to a snapshot in memory, and both are judged and told apart."""

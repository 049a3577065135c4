"""Usher Gate: who drifts from the collaboration security baseline, from what, and where it comes from."""

__version__ = "0.1.0"

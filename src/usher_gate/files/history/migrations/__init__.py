"""The versions of the history, each an upgrade of the one before."""

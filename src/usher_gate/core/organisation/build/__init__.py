"""Rows in, the organisation's columns out: validated all the same, whether they come from files or from a change in memory."""

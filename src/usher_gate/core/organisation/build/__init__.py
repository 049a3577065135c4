"""Rows in, the organisation's columns out.

Validated all the same, whether they come from files or from a change in memory.
"""

"""Trying changes before they are made.

A change is applied to a snapshot in memory, and both are judged and compared.
"""

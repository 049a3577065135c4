"""Where a snapshot comes from: one file for each kind of source, all behind interface.py.

Settings.SOURCE_KINDS lists them.
"""

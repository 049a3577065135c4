"""Where a snapshot comes from: one file for each kind of source, all behind interface.py; settings.PERSON_KINDS lists them."""

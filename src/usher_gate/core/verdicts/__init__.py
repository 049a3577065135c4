"""Whether what is known satisfies a baseline.

For everyone at once, for one person, for the organisation and its partners.
"""

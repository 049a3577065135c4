"""Whether what is known satisfies a baseline: for everybody at once, for one person, for the organisation and its partners."""

"""Who could get into a meeting.

For every host and kind of visitor whether they enter, wait or are refused, and by which gate.
"""

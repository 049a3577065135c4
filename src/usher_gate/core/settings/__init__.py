"""What each person really gets for a control on a service, by which settings, and which of those values cannot work
together.
"""

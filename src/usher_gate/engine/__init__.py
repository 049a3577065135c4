"""Large work shared out.

Who takes a share (processes of this machine, or an engine), what they do, and the sums that make it whole.

Without large work, and without being asked to, nothing here is used; the answer is the same byte for byte in either
case.
"""

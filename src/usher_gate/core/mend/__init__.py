"""Which fewest edits of settings end the drift and hurt no one."""

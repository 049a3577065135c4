"""What people write beside a snapshot: baseline, exceptions, the settings file of a working folder."""

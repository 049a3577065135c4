"""Where checks are kept: SQLite, or any database that SQLAlchemy speaks to."""

"""The made-up organisation Northmere Ferries: no real person, firm or service."""

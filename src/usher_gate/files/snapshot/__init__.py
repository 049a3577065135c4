"""The snapshot's folder: its tables and its YAML files, each fault with FILE:LINE."""

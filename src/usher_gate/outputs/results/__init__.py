"""The results of verbs, each declared once: what is shown, its fields, and the page that people read."""

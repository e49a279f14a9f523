"""The session as a value: its parts, its edits, its history, its file."""

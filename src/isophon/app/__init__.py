"""The window: views that draw the session and send edits. Holds no truth of its own."""

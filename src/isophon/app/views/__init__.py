"""What is seen of a session at work."""

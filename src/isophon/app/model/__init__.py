"""What the window works on: no painting here."""

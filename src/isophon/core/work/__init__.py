"""Worker processes, and what they are asked."""

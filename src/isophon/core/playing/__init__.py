"""The mix and the player."""

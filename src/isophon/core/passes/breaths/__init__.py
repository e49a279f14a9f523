"""The Breaths pass."""

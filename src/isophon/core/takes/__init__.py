"""A recording at hand: first look, pictures, and what was measured of it, kept on disk."""

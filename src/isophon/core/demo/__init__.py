"""A synthesized singer and the demo session; everything in it is invented."""

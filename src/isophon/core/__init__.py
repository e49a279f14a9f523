"""The numeric work and the session; never imports Qt."""

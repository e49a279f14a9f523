"""Hiss, of the Floor pass: steady noise turned down under the voice, the voice's own top left alone."""

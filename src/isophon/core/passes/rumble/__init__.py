"""Rumble, of the Floor pass: a low cut that leaves the voice whole."""

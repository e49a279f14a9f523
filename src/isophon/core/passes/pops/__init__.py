"""Pops: blows of air from P and B, taken out of the lows while they last."""

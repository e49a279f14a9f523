"""Ticks: mouth clicks and damaged samples, repaired so that nothing is heard."""

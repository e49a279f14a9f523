"""Simulated stand-ins for devices that may be missing."""

"""Recordings in and out, filters, spectra and loudness."""

"""Hum and buzz, of the Floor pass: the mains' harmonics, modelled and subtracted."""

"""Isophon: clean recorded vocals, each blemish measured against the voice around it."""

__version__ = "1.0.0"

"""Bleed: the headphone feed, predicted from its cue and subtracted."""

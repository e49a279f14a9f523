"""The Esses pass: sibilants that stand out of the voice, brought under a ceiling."""

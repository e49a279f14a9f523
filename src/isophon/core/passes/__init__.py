"""One room a pass: its settings, how its marks are found, how they are treated."""

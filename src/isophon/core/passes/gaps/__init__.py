"""Dead air: what sounds between the singing, of the Floor pass."""

"""The command line."""

from isophon.cli.entry import main as main

"""`python -m isophon`."""

import sys

from isophon.cli import main

if __name__ == "__main__":
    sys.exit(main())

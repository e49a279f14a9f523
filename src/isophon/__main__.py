"""`python -m isophon`."""

import sys
import warnings

from isophon.cli import main

if __name__ == "__main__":
    warnings.simplefilter("ignore")  # they are for developers, and the tests make errors of them
    sys.exit(main())

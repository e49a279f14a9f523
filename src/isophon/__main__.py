"""`python -m isophon`."""

import os
import sys
import warnings

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # its own threads wait busily and get in the way of ours

from isophon.cli import main
from isophon.core import memory

if __name__ == "__main__":
    warnings.simplefilter("ignore")  # they are for developers, and the tests make errors of them
    memory.give_back()
    sys.exit(main())

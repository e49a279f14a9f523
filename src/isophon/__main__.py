"""`python -m isophon`."""

import os
import sys

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # its own threads wait busily and get in the way of ours

from isophon.cli import main
from isophon.core import memory

if __name__ == "__main__":
    memory.give_back()
    sys.exit(main())

import os

# As in the program, and before numpy is imported: it would start a thread for each core.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

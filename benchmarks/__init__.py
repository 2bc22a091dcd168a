"""How fast the engine is, against other ways to run the same machine. Run by hand, and as a short run in CI.

.venv/bin/python -m benchmarks            # one hour
.venv/bin/python -m benchmarks --short    # some minutes of it, no ratios asked for
"""

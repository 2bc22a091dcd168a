"""How long a command takes to answer, as a ratio to loading the package of the command line, all in one run.

    python -m benchmarks.starts

Each is started in turn, several times; the least of each counts. Exit 1 for a promise that is not kept.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

import spokeshave

EXAMPLES = Path(spokeshave.__file__).parent / "examples"
TIMES = 7
BASE = (sys.executable, "-c", "import typer")


def _command(*words: str | Path) -> tuple[str, ...]:
    return (sys.executable, "-m", "spokeshave", *map(str, words))


SMALL, ROASTERY = EXAMPLES / "paddle.st", EXAMPLES / "roastery.spoke"
PROMISES: dict[str, tuple[tuple[str, ...], float]] = {
    "--version": (_command("--version"), 1.5),
    "check of a small .st": (_command("check", SMALL), 4.0),
    "run of a small .st": (_command("run", SMALL, "--for", "5s"), 4.0),
    "check of the roastery": (_command("check", ROASTERY), 6.0),
    "run of the roastery": (_command("run", ROASTERY, "--for", "5s"), 6.0),
}


def seconds(command: tuple[str, ...]) -> float:
    """One start, in s."""
    begin = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    return time.perf_counter() - begin


def ratios(times: int = TIMES) -> dict[str, float]:
    """Each promise as a ratio to the base: the least of several turns."""
    best = {"": seconds(BASE), **{name: seconds(command) for name, (command, _) in PROMISES.items()}}
    for _ in range(times):
        best[""] = min(best[""], seconds(BASE))
        for name, (command, _) in PROMISES.items():
            best[name] = min(best[name], seconds(command))
    return {name: best[name] / best[""] for name in PROMISES}


def main() -> int:
    kept = True
    for name, ratio in ratios().items():
        most = PROMISES[name][1]
        kept &= ratio <= most
        print(
            f"  {'kept    ' if ratio <= most else 'NOT KEPT'}  {name:24} {ratio:5.2f} x import of the command line, at most {most}"
        )
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())

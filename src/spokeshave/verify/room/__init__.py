"""Room: how near a machine file that passes is to failing.

`windows` measures passing runs; `knobs` are what may be otherwise on the real machine: how fast devices are, what settings say, when
hands come; `limits` looks for where the first thing fails; `drawn` draws all tolerances together; `path` is what a cycle waited on.
"""

from __future__ import annotations

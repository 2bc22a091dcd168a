"""How quick a chart of 2,000 steps is: `QT_QPA_PLATFORM=offscreen .venv/bin/python -m benchmarks.charts`."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QCoreApplication, QRectF
from PySide6.QtGui import QImage, QPainter

from benchmarks.__main__ import long_file
from spokeshave.chart.layout import layout
from spokeshave.desktop.application import make_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.model import branch_edits, edits, flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project

STEPS = 2000


def shortest(act: Callable[[], object], times: int = 5) -> float:
    """Milliseconds, the least of several."""
    found = []
    for _ in range(times):
        start = time.perf_counter()
        act()
        found.append(time.perf_counter() - start)
    return min(found) * 1000


def main() -> None:
    make_app()
    document = Document(long_file(STEPS))
    window = MainWindow(document)
    window.asks_before_closing = False
    window.show()
    window.show_face("chart")
    chart = window.sequence.charts["Long"]
    window.selection.set(Place("step", "Long", "S500"))
    QCoreApplication.processEvents()
    laid_out = shortest(lambda: layout(chart.sequence))
    scene = chart.scene()

    def build() -> None:
        for item in list(chart.items_by_step.values()):
            scene.removeItem(item)
        chart.items_by_step = {}
        chart._draw()

    built = shortest(build, 3) - laid_out
    picture = QImage(1280, 800, QImage.Format.Format_RGB32)

    def paint(area: QRectF) -> None:
        painter = QPainter(picture)
        scene.render(painter, QRectF(0, 0, area.width(), area.height()), area)
        painter.end()

    pages = range(int(scene.sceneRect().height() // 800) + 1)

    def paint_all() -> None:
        for n in pages:
            paint(QRectF(0, 800 * n, 1280, 800))

    whole = shortest(paint_all, 1)
    one = shortest(lambda: paint(chart.items_by_step["S700"].sceneBoundingRect()))
    numbers = iter(range(1, 1000))

    def edit(change: Callable[[Project], Project]) -> None:
        document._timer.stop()
        document.edit("edit", change)
        QCoreApplication.processEvents()

    def finished(change: Callable[[int], Callable[[Project], Project]]) -> float:
        """An edit with its picture on the screen; what follows when nobody types is not counted."""
        best = []
        for _ in range(5):
            n = next(numbers)
            best.append(shortest(lambda n=n: edit(change(n)), 1))  # type: ignore[misc]
            chart.finish()
        return min(best)

    rows = [
        ("layout", laid_out, 1000.0),
        ("items built after layout", built, 200.0),
        ("repainting one step", one, whole / 100),
        ("a comment", finished(lambda n: lambda p: edits.change_step(p, "Long", "S500", comment=f"note {n}")), 50.0),
        ("a step inserted", finished(lambda n: lambda p: flow_edits.insert_step(p, "Long", f"S{400 + 10 * n}")), 50.0),
        ("a step deleted", finished(lambda n: lambda p: flow_edits.delete_step(p, "Long", f"S{800 + 10 * n}")), 50.0),
        (
            "a jump made",
            finished(lambda n: lambda p: branch_edits.add_transition(p, "Long", f"S{900 + 10 * n}", "S100")),
            50.0,
        ),
    ]
    print(f"{STEPS} steps, {chart.plan.height:.0f} px high, painted whole in {whole:.0f} ms")
    for name, ms, most in rows:
        print(f"  {'kept' if ms <= most else 'NOT KEPT':9} {name:26} {ms:8.1f} ms   at most {most:.0f}")
    window.close()


if __name__ == "__main__":
    main()

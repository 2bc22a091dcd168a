"""The command line: exit codes, outputs, messages; and the core without Qt."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import pytest
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.formats.files import write_project
from spokeshave.formats.spoke import dumps
from spokeshave.formats.tables.grid import read_sheets
from spokeshave.model.project import Scenario
from spokeshave.reading import read_project
from spokeshave.verify.scenarios import run_scenario
from tests.conftest import EXAMPLES

ROASTERY = str(EXAMPLES / "roastery.spoke")
PADDLE = str(EXAMPLES / "paddle.st")
runner = CliRunner()


def call(*arguments: str) -> tuple[int, str, str]:
    result = runner.invoke(whole_app(), list(arguments))
    if result.exception is not None and not isinstance(result.exception, SystemExit):
        raise result.exception
    return result.exit_code, result.stdout, result.stderr


def test_a_hand_written_chart_is_simulated_and_its_trace_written(tmp_path):
    trace = tmp_path / "out.csv"
    assert call(
        "run", PADDLE, "--for", "12s", "--stimuli", str(EXAMPLES / "paddle-stimuli.csv"), "--trace", str(trace)
    ) == (0, "", "")
    rows = [line.split(",") for line in trace.read_text().splitlines()]
    assert rows[0] == ["time_ms", "signal", "value"]
    winch = [(int(t), v) for t, name, v in rows[1:] if name == "WinchUp"]
    # Raise is pressed at 1 s; the paddle is up at 4 s; hand-worked from the chart.
    assert winch == [(0, "0"), (1000, "1"), (4000, "0")]
    times = [int(r[0]) for r in rows[1:]]
    assert times == sorted(times)


def test_run_writes_to_standard_output_and_for_counts_scans_below_it():
    code, out, err = call("run", PADDLE, "--for", "20ms")
    assert (code, err) == (0, "")
    assert out.splitlines()[1:] == [line for line in out.splitlines()[1:] if line.startswith("0,")]


def test_a_scenario_can_be_run_for_its_trace():
    code, out, _ = call("run", ROASTERY, "--scenario", "light roast in order")
    assert code == 0
    assert "500,StartButton,1" in out and re.search(r"^\d+,BeanTemp,1\d\d\.[05]$", out, re.MULTILINE)


@pytest.mark.parametrize("scenario", ["Light roast in order", "Hot start"])
def test_the_inputs_of_a_run_are_stimuli_with_which_the_machine_does_the_same_again(scenario, tmp_path):
    project = read_project(Path(ROASTERY))
    if scenario == "Hot start":  # a setting that is set, an input that is forced, a machine that has no devices
        rows = "at 1 s: set ChargeTemp to 90.5\nat 2 s: force StartButton to TRUE\nat 3 s: unforce StartButton\nrun for 9 s\nexpect no hazards"
        project = replace(project, devices=(), connections=(), scenarios=(*project.scenarios, Scenario(scenario, rows)))
    file, traces, stimuli = tmp_path / "m.spoke", [tmp_path / "a.csv", tmp_path / "b.csv"], tmp_path / "s.csv"
    file.write_text(dumps(project), encoding="utf-8")
    assert (
        call("run", str(file), "--scenario", scenario, "--trace", str(traces[0]), "--keep-stimuli", str(stimuli))[0]
        == 0
    )
    last = int(traces[0].read_text().splitlines()[-1].split(",")[0]) + project.period_ms
    assert call("run", str(file), "--for", f"{last}ms", "--stimuli", str(stimuli), "--trace", str(traces[1]))[0] == 0
    assert traces[0].read_text() == traces[1].read_text() and stimuli.read_text().count("\n") > 15
    assert (
        call("run", str(file), "--for", "1s", "--keep-stimuli", str(stimuli))[1] == ""
    )  # no trace, where stimuli are asked for


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("run", ROASTERY), "say how long"),
        (("run", ROASTERY, "--for", "soon"), "--for soon: write a time such as 60s"),
        (("run", ROASTERY, "--for", "1s", "--trace", "x.txt"), "the suffix .txt is not known"),
        (("run", ROASTERY, "--scenario", "Nope"), "there is no scenario 'Nope'; there are: Light roast"),
        (("run", "gone.spoke", "--for", "1s"), "gone.spoke: No such file"),
        (("check", "gone.doc"), "the suffix .doc is not known; use .spoke, .st, .xml, .xlsx or .csv"),
        (("convert", ROASTERY, "/nowhere/at/all.st"), "could not be written"),
        (("convert", ROASTERY, "x.doc"), "the suffix .doc is not known"),
        (("demo", "nothing"), "there is no example nothing; there are carousel, lock, roastery"),
    ],
)
def test_what_cannot_be_done_exits_2_with_a_message(arguments, message):
    code, out, err = call(*arguments)
    assert (code, out) == (2, "")
    assert message in err and "Traceback" not in err


def test_a_run_that_stops_exits_2_with_its_trace_up_to_there(tmp_path):
    file = tmp_path / "stop.st"
    file.write_text(
        "PROGRAM P VAR_OUTPUT Y : BOOL; END_VAR VAR N : INT := 3; END_VAR INITIAL_STEP A: Down(N); Y(N); END_STEP\n"
        "ACTION Down: N := N - 1; IF 6 / N > 5 THEN N := N; END_IF; END_ACTION END_PROGRAM"
    )
    code, out, err = call("run", str(file), "--for", "1s")
    assert code == 2
    assert out.splitlines()[-1] == "10,N,1"
    assert "P, body Down, column 16: division by zero, at 20 ms" in err


def test_a_trace_can_be_a_value_change_dump_and_every_scan_changes_nothing(tmp_path):
    paths = [tmp_path / n for n in ("a.vcd", "b.csv", "c.csv")]
    for path, more in zip(paths, ((), (), ("--every-scan",))):
        assert call("run", ROASTERY, "--for", "30s", "--trace", str(path), *more) == (0, "", "")
    assert paths[0].read_text().startswith("$version Spokeshave $end\n$timescale 1 ms $end")
    assert paths[1].read_bytes() == paths[2].read_bytes()


def test_check_exits_by_the_worst_finding(tmp_path):
    assert call("check", ROASTERY) == (0, "", "")
    broken = tmp_path / "broken.st"
    broken.write_text(Path(PADDLE).read_text().replace("RISING(Raise)", "RISING(Rais)"))
    code, out, _ = call("check", str(broken))
    assert code == 1 and "did you mean Raise?" in out
    code, out, _ = call("check", str(broken), "--json")
    assert code == 1 and json.loads(out)["findings"][0]["severity"] == "error"
    assert call("run", str(broken), "--for", "1s")[0] == 2


def test_verify_reports_and_exits_1_when_something_failed(tmp_path):
    xml, html, file = tmp_path / "r.xml", tmp_path / "r.html", tmp_path / "mistake.spoke"
    project = read_project(EXAMPLES / "roastery-mistake.spoke")
    write_project(replace(project, sweep=replace(project.sweep, cycle="Gone")), file)  # the demo's test sweeps it whole
    code, out, _ = call("verify", str(file), "--junit", str(xml), "--report", str(html))
    assert code == 1
    assert "it lasted 0.3 s" in out and "it lasted 0.3 s" in html.read_text() and 'failures="2"' in xml.read_text()
    assert "there is no scenario &#39;Gone&#39;" in html.read_text()
    code, out, _ = call("verify", ROASTERY, "--group", "Manual", "--json")
    assert code == 0 and {s["outcome"] for s in json.loads(out)["scenarios"]} == {"pass"}


def test_results_are_a_workbook_or_a_table_of_scenarios(tmp_path):
    book, table = tmp_path / "r.xlsx", tmp_path / "r.csv"
    mistake = str(EXAMPLES / "roastery-mistake.spoke")
    for path in (book, table):
        assert call("verify", mistake, "--table", str(path))[0] == 1
    pages = {s.name: s.rows for s in read_sheets(book)}
    assert list(pages) == ["Scenarios", "Rows", "Requirements", "Findings"]
    assert "lets go of Gate" in pages["Findings"][1][2]
    assert pages["Scenarios"][0] == ("Scenario", "Run", "Group", "Shows", "Verdict", "Ran (s)", "Why not")
    project = read_project(Path(mistake))
    verdicts = [r.outcome.value for s in project.scenarios for r in run_scenario(project, s).runs]
    assert [r[4] for r in pages["Scenarios"][1:]] == verdicts and verdicts.count("fail") == 2
    (failed,) = [r for r in pages["Scenarios"] if "it lasted 0.3 s" in r[6]]
    assert ("fail", "it lasted 0.3 s") in [(r[4], r[6][:15]) for r in pages["Rows"]] and failed[4] == "fail"
    assert len(pages["Requirements"]) == len(project.requirements) + 1
    assert list(read_sheets(table)[0].rows) == list(pages["Scenarios"])
    assert call("verify", mistake, "--table", "r.txt")[0] == 2


def test_runs_are_accepted_compared_and_a_difference_exits_1(tmp_path):
    file = tmp_path / "mine.spoke"
    file.write_bytes(Path(ROASTERY).read_bytes())
    assert call("accept", str(file), "--scenario", "Light roast in order", "--within-ms", "20")[0] == 0
    code, out, _ = call("verify", str(file), "--group", "normal", "--jobs", "2")
    assert code == 0 and "as accepted  Light roast in order" in out and out.count("pass  ") == 4
    text = file.read_text().replace('"initial": 12000', '"initial": 13000')
    file.write_text(text)
    code, out, _ = call("verify", str(file), "--scenario", "Light roast in order", "--json")
    report = json.loads(out)
    assert code == 1 and report["accepted"][0]["differences"][0]["text"] == "lasted 1 s longer: 13 s, accepted 12 s"
    assert {r["state"] for r in report["requirements"]} == {"proven", "not run"}
    assert call("verify", str(file), "--group", "Odd")[0] == 2


def test_a_brief_is_taken_in_and_rows_are_tidied(tmp_path):
    file, text = tmp_path / "mine.spoke", tmp_path / "brief.txt"
    call("convert", ROASTERY, str(file))
    text.write_text("R5: The hopper is never empty. It fills in 3 s.")
    code, out, _ = call("brief", str(file), str(text))
    assert code == 0 and [line.split()[1] for line in out.splitlines()] == ["interlock", "time"]
    file.write_text(file.read_text().replace("at 500 ms: press Start for 300 ms", "AT 500ms:press  Start for 300ms"))
    assert call("tidy", str(file))[1] == "Tidied: Light roast in order\n" and call("tidy", str(file)) == (0, "", "")
    text.write_text("  ")
    assert call("brief", str(file), str(text))[0] == 2


def test_convert_there_and_back_is_the_same_file(tmp_path):
    text, back = tmp_path / "r.st", tmp_path / "r.spoke"
    status, out, told = call("convert", ROASTERY, str(text))
    assert (status, out) == (0, "") and "stand in the pragma only" in told
    assert call("convert", str(text), str(back)) == (0, "", "")
    assert back.read_bytes() == Path(ROASTERY).read_bytes()


def test_the_core_works_with_no_qt_installed(tmp_path):
    code = (
        "import sys; sys.modules['PySide6'] = None\n"
        "import pkgutil, importlib, spokeshave\n"
        "for m in pkgutil.walk_packages(spokeshave.__path__, 'spokeshave.'):\n"
        "    if not m.name.startswith(('spokeshave.desktop', 'spokeshave.__main__')): importlib.import_module(m.name)\n"
        "from spokeshave.cli import whole_app\napp = whole_app()\n"
        f"app(['verify', {ROASTERY!r}, '--group', 'normal'])\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("\npass ") + done.stdout.startswith("pass ") == 4


@pytest.mark.parametrize("style", ["case", "flags"])
def test_a_chart_is_written_as_code_and_proved(style, tmp_path):
    out = tmp_path / "paddle.st"
    code, said, _ = call("convert", PADDLE, str(out), "--style", style, "--prove")
    assert (code, said) == (0, "18,000 scans of 3 runs compared: no difference\n")
    back = tmp_path / "back.spoke"
    assert call("convert", str(out), str(back))[0] == 0
    straight = tmp_path / "straight.spoke"
    call("convert", PADDLE, str(straight))
    assert back.read_text() == straight.read_text()


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("out.st", "--prove"), "--prove compares a chart with its code: add --style plain, case or flags"),
        (("out.st", "--style", "ladder"), "--style ladder: there are chart, plain, case, flags"),
        (("out.spoke", "--style", "case"), "code is IEC text; use the suffix .st"),
    ],
)
def test_convert_says_what_does_not_go_together(arguments, message, tmp_path):
    code, _, err = call("convert", PADDLE, str(tmp_path / arguments[0]), *arguments[1:])
    assert code == 2 and message in err
    assert not list(tmp_path.iterdir())

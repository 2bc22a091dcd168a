"""The commands described for others: the manual page and the completion of the shell, made from the commands themselves."""

from __future__ import annotations

from typing import Any

import typer.main

from spokeshave import __version__
from spokeshave.cli import whole_app


def _commands() -> dict[str, Any]:
    found: dict[str, Any] = typer.main.get_command(whole_app()).commands  # type: ignore[attr-defined]
    return dict(sorted(found.items()))


def _options(command: Any) -> list[Any]:
    return [p for p in command.params if p.param_type_name == "option"]


def _escaped(text: str) -> str:
    return text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq")


def man_page() -> str:
    """The manual page `spokeshave(1)`."""
    lines = [
        f'.TH SPOKESHAVE 1 "" "Spokeshave {__version__}" "User Commands"', ".SH NAME",
        "spokeshave \\- design, simulate and prove machine sequences", ".SH SYNOPSIS",
        ".B spokeshave", "[\\fICOMMAND\\fR] [\\fIOPTIONS\\fR] [\\fIFILE\\fR]", ".SH DESCRIPTION",
        "Without a command the desktop opens, on a file if one is named. A command exits with 0 when it is done, 1 when",
        "something failed or was found, 2 when it could not do it.", ".SH COMMANDS",
    ]  # fmt: skip
    for name, command in _commands().items():
        arguments = " ".join(p.human_readable_name.upper() for p in command.params if p.param_type_name == "argument")
        lines += [
            ".TP",
            f"\\fB{name}\\fR {_escaped(arguments)}".rstrip(),
            _escaped(command.help.strip().splitlines()[0]),
        ]
        for option in _options(command):
            if option.help:
                lines += [".RS", ".TP", f"\\fB{_escaped(', '.join(option.opts))}\\fR", _escaped(option.help), ".RE"]
    return "\n".join(lines) + "\n"


def bash_completion() -> str:
    """What bash completes: commands, their options, and files."""
    cases = [
        f'    {name}) words="{" ".join(o for option in _options(command) for o in option.opts)}" ;;'
        for name, command in _commands().items()
    ]
    return "\n".join(
        [
            "# Completion of spokeshave for bash; made by scripts/desktop-files.",
            "_spokeshave() {",
            '  local word=${COMP_WORDS[COMP_CWORD]} words=""',
            '  case ${COMP_WORDS[1]} in',
            *cases,
            "  esac",
            "  if [ \"$COMP_CWORD\" = 1 ]; then",
            f"    COMPREPLY=($(compgen -W \"{' '.join(_commands())}\" -- \"$word\") $(compgen -f -- \"$word\"))",
            '  elif [[ $word == -* ]]; then',
            '    COMPREPLY=($(compgen -W "$words" -- "$word"))',
            "  else",
            '    COMPREPLY=($(compgen -f -- "$word"))',
            "  fi",
            "}",
            "complete -o filenames -F _spokeshave spokeshave",
            "",
        ]
    )  # fmt: skip

"""The manual page, built from the commands themselves."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Protocol, cast

from jiyuu import __version__

FOOT = """.SH EXIT STATUS
0: done. 2: bad input, said in one line on standard error. 130: stopped with Ctrl+C.
.SH CAUTIONS
Self\\-oscillation and feedback can jump to full level: start low.
"""


class Parameter(Protocol):
    """What is asked of an option or an argument; metavar and help are None where nothing was said."""

    name: str
    param_type_name: str
    metavar: str | None
    opts: Sequence[str]
    help: str | None


class Command(Protocol):
    """What is asked of a command."""

    help: str | None
    hidden: bool
    params: Sequence[Parameter]


class Group(Command, Protocol):
    """What is asked of a command that holds others."""

    commands: Mapping[str, Command]


def manual(group: Group, *, name: str) -> str:
    """Roff of a command group and all that it holds."""
    parts = [f'.TH {name.upper()} 1 "" "{name} {__version__}"', ".SH NAME", f"{name} \\- {_plain(_first(group))}",
             ".SH SYNOPSIS", f"{name} [BOOK | FILTER | COMMAND]", ".SH DESCRIPTION", _plain(group.help), ".SH COMMANDS"]
    for path, command in _commands(group, name):
        parts += [f".SS {path} {_arguments(command)}", _plain(command.help)]
        for parameter in command.params:
            if parameter.param_type_name == "option":
                shown = ", ".join(f"\\fB{_plain(one)}\\fR" for one in parameter.opts)
                parts += [".TP", shown, _plain(parameter.help or "")]
    return "\n".join(part for part in parts if part) + "\n" + FOOT


def _commands(group: Group, path: str) -> Iterator[tuple[str, Command]]:
    for name, command in sorted(group.commands.items()):
        if command.hidden:
            continue
        if hasattr(command, "commands"):
            yield from _commands(cast(Group, command), f"{path} {name}")
        else:
            yield f"{path} {name}", command


def _arguments(command: Command) -> str:
    return " ".join(str(one.metavar or one.name.upper()) for one in command.params if one.param_type_name == "argument")


def _first(group: Group) -> str:
    return str(group.help).partition(".")[0]


def _plain(text: str | None) -> str:
    """Roff takes a leading dot and every hyphen for its own."""
    line = " ".join((text or "").split()).replace("\\", "\\\\").replace("-", "\\-")
    return f"\\&{line}" if line.startswith((".", "'")) else line

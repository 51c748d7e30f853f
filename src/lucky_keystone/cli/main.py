"""The program: its commands, each imported only when it is used, and the one place where errors are shown."""

from __future__ import annotations

import importlib
import os
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

import click

from .. import __version__
from ..common.checkout import commit_of
from ..common.errors import DoesNotFit, KeystoneError, NoRights, UsageError
from ..common.interrupts import end_in_peace, end_like_ctrl_c
from ..common.invoker import show_no_boxes
from ..common.nearest import did_you_mean, nearest
from ..common.notes import shown_by
from ..common.shell import with_sudo
from .exit_codes import EXIT_CODES
from .manner import restored
from .streams import forget_output, is_closed_pipe, is_of_output, prepare_streams
from .text import visible, visible_json

_GROUPS = {
    "Build": {
        "fetch": "Get an image from a server; continues after any break.",
        "images": "List the downloaded images.",
        "inspect": "Show what an installer is and what it needs.",
        "plan": "Decide and show how a drive would be built, and where it would start.",
        "build": "Build one or several drives and check them, or update one.",
        "split": "Divide an install image into parts.",
    },
    "Look": {
        "drives": "List drives: tag, size, what is on them, free or protected.",
        "machine": "Show how this computer started, and what it can start.",
        "check": "Check a drive: table, volumes, contents, and the way it starts.",
        "rehearse": "Run a drive's own boot code without a machine, step by step.",
    },
    "Care": {
        "gauge": "Measure a drive: what it really holds, how fast it is, where it fails.",
        "mend": "Make a drive start that has its files, without erasing it.",
        "reclaim": "Turn a drive back into ordinary storage.",
    },
    "The shop": {
        "report": "Write a page to keep with a drive.",
        "presets": "List the shop's own defaults, with what each sets.",
        "log": "Show what was built on which drive, and the result.",
        "data": "List what is kept on this computer, and remove it.",
        "collect": "Collect what a volunteer with a real computer sends.",
        "schema": "Print the JSON Schema of a command's --json document.",
        "demo": "Run the whole job on made-up data, in a folder.",
    },
}
_COMMANDS = {name: words for commands in _GROUPS.values() for name, words in commands.items()}
_NAMES = ("lucky-keystone", "lkey")
_PROGRAM_FAULT = 70


_PIPE_CLOSED = 141
"""As of a program that SIGPIPE ended: what it would have said is not known."""
_OUTPUT_FAILED = 74


class _OutputLost(Exception):
    """Nobody reads the output any more, or it cannot be written."""

    def __init__(self, why: OSError) -> None:
        super().__init__(str(why))
        self.is_closed_pipe = is_closed_pipe(why)
        self.why = why.strerror or str(why)


class _Commands(click.Group):
    def invoke(self, ctx: click.Context) -> Any:
        """Carry out a command; an error of the output is told apart from one of the work, and from click's own 1."""
        try:
            result = super().invoke(ctx)
            sys.stdout.flush()
        except OSError as error:
            if is_of_output(error):
                raise _OutputLost(error) from error
            raise
        return result

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find the command; of a mistyped one say which is nearest."""
        name = args[0]
        if name not in _COMMANDS and not name.startswith("-") and not ctx.resilient_parsing:
            from .synonyms import advice_for

            listed = "'lucky-keystone --help' lists the commands."
            meant = advice_for(name) or did_you_mean(name, _COMMANDS) + listed
            raise UsageError(f"There is no command '{name}'.", advice=meant)
        return super().resolve_command(ctx, args)

    def list_commands(self, context: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        if name not in _COMMANDS:
            return None
        return importlib.import_module(f".{name}", __package__).command  # type: ignore[no-any-return]

    def format_commands(self, context: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands without importing them."""
        for group, commands in _GROUPS.items():
            with formatter.section(group):
                formatter.write_dl(list(commands.items()))


@click.group(
    cls=_Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="""\b
Examples:
  lucky-keystone demo tidewell
  lucky-keystone inspect installer.iso
  lucky-keystone build installer.iso
  lucky-keystone build installer.iso --onto stick.img
  lucky-keystone check stick.img

Exit codes: """
    + "; ".join(f"{code} {meaning}" for code, meaning in EXIT_CODES.items())
    + """.

\b
Completion for bash: eval "$(_LUCKY_KEYSTONE_COMPLETE=bash_source lucky-keystone)"
(zsh_source and fish_source for the others; _LKEY_COMPLETE for lkey).""",
)
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=lambda context, _, wanted: _show_version(context) if wanted else None,
    help="Show the version, from a checkout with its commit, and exit.",
)
@click.pass_context
def program(context: click.Context) -> int | None:
    """Build installer drives for Windows and macOS: planned first, written once from front to back, and checked.

    Nothing is mounted, nothing is copied to temporary files, and every decision has its reason.
    """
    if context.invoked_subcommand is not None:
        return None
    from .guided import first_steps
    from .question import can_ask

    if not can_ask():
        click.echo(context.get_help())
        return 0
    line = first_steps()
    return main(line) if line else 0


def main(arguments: list[str] | None = None) -> int:
    """Run the program; return its exit code. No traceback reaches a user."""
    given = sys.argv[1:] if arguments is None else arguments
    shown_by(_show_note)
    with restored():
        return _run(list(given))


def _run(given: list[str]) -> int:
    as_json = "--json" in given
    if given[:1] == ["help"]:
        given = [*given[1:2], "--help"]
    called = Path(sys.argv[0]).name.removesuffix(".exe")
    name = called if called in _NAMES else _NAMES[0]
    try:
        result = program.main(args=given, prog_name=name, standalone_mode=False, obj=given)
        return result if isinstance(result, int) else 0
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except _OutputLost as lost:
        return _end_without_output(lost)
    except (Exception, KeyboardInterrupt) as error:
        failure = _failure_of(error, given)
        if failure.exit_code == _PROGRAM_FAULT and os.environ.get("LUCKY_KEYSTONE_TRACE"):
            raise
        if isinstance(error, DoesNotFit) and error.shares and not as_json:
            _show_shares(error)
        if isinstance(error, click.UsageError) and not isinstance(error, click.NoSuchOption) and not as_json:
            _show_usage(error)
        return _fail(as_json, failure)


def _show_usage(error: click.UsageError) -> None:
    if error.ctx is not None:
        click.echo(error.ctx.get_usage(), err=True)


def _show_shares(error: DoesNotFit) -> None:
    """Print what each part of a drive takes that does not fit."""
    from .shares import show_shares

    show_shares(error.shares)


def _show_version(context: click.Context) -> None:
    if context.resilient_parsing:
        return
    commit = commit_of(Path(__file__).parents[3])
    click.echo(f"lucky-keystone, version {__version__}{f', commit {commit[:12]}' if commit else ''}")
    context.exit()


class _Failure(NamedTuple):
    """What is said of an error, and what the program ends with."""

    message: str
    advice: str
    exit_code: int


def _failure_of(error: BaseException, given: list[str]) -> _Failure:
    match error:
        case NoRights() if line := with_sudo(_shown(given)):
            return _Failure(error.message, f"{error.advice} In full: {line}", error.exit_code)
        case KeystoneError():
            return _Failure(error.message, error.advice, error.exit_code)
        case click.Abort() | KeyboardInterrupt():
            return _Failure("Stopped.", "", 130)
        case click.NoSuchOption():
            from .synonyms import advice_for_option

            meant = nearest(error.option_name, error.possibilities or ())
            advice = (f"Did you mean {meant}? " if meant else "") + "Add --help to see the options."
            advice = advice_for_option(error.option_name) or advice
            return _Failure(f"There is no option {error.option_name}.", advice, error.exit_code)
        case click.UsageError(ctx=click.Context(info_name="build")) if "unexpected extra" in error.message:
            advice = "The drive has an option: lucky-keystone build SOURCE --onto DRIVE."
            return _Failure(error.format_message(), advice, error.exit_code)
        case click.ClickException():
            advice = "Add --help to see the options and examples."
            return _Failure(error.format_message(), advice, error.exit_code)
        case OSError(filename=name) if name is not None:
            what = f"{os.fsdecode(name)}: {error.strerror or error}."
            return _Failure(what, "Check that it is there and may be used; then run the command again.", 5)
        case _:
            what = f"Internal error: {type(error).__name__}: {error}."
            advice = "Run it again with LUCKY_KEYSTONE_TRACE=1 set, and report what it shows."
            return _Failure(what, advice, _PROGRAM_FAULT)


def _shown(given: list[str]) -> list[str]:
    from ..fetching.link import without_secrets  # which no other end of the program needs

    return without_secrets(given)


def _end_without_output(lost: _OutputLost) -> int:
    forget_output()
    if lost.is_closed_pipe:
        return _PIPE_CLOSED
    with suppress(OSError):
        what = f"Standard output cannot be written: {lost.why}."
        click.echo(f"Error: {visible(what)}\nWhat next: Make room for it, or send it elsewhere.", err=True)
    return _OUTPUT_FAILED


def _fail(as_json: bool, failure: _Failure) -> int:
    message, advice, code = failure.message, failure.advice, failure.exit_code
    if as_json:
        import json

        body: dict[str, Any] = {"schema": 1, "error": {"message": message, "advice": advice, "exit_code": code}}
        try:
            print(visible_json(json.dumps(body, indent=2, ensure_ascii=False)), flush=True)
        except OSError as error:
            forget_output()
            return _PIPE_CLOSED if is_closed_pipe(error) else _OUTPUT_FAILED
    else:
        _show_failure(message, advice)
    return code


def _show_failure(message: str, advice: str) -> None:
    from .show import assembled, console, paragraph

    with suppress(OSError):  # a closed standard error: the exit code says it
        out = console(err=True)
        paragraph(out, assembled(("Error: ", "bad"), message))
        if advice:
            paragraph(out, f"What next: {advice}")


def _show_note(text: str) -> None:
    from .show import console, paragraph

    with suppress(OSError):
        paragraph(console(err=True), f"Note: {text}")


def entry() -> None:
    """Entry point of the installed program."""
    prepare_streams()
    show_no_boxes()
    end_like_ctrl_c()
    code = main()
    end_in_peace()
    sys.exit(code)

"""The application: commands gathered, errors turned into one clear line and the right exit code."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module

import click

from zapato.cli.about import COMMANDS, STEPS
from zapato.errors import Refused, ZapatoError

USAGE = 2
EXTRAS = {
    **dict.fromkeys(("matplotlib", "pandas", "jinja2", "markupsafe"), "pictures"),
    **dict.fromkeys(("starlette", "uvicorn", "prompt_toolkit", "amqtt", "prometheus_client"), "hub"),
    **dict.fromkeys(("distributed", "dask"), "cluster"),
    **dict.fromkeys(("pygls", "lsprotocol"), "editor"),
}
"""Which extra brings a package that a command alone wants."""


class Commands(click.Group):
    """The commands, each imported when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(command_names())

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in command_names():
            return None
        command: click.Command = import_module(f"zapato.cli.commands.{cmd_name}").COMMAND
        command.epilog = f"Example:\n\n  {COMMANDS[cmd_name].example}"
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The commands in the order of the work."""
        for step in STEPS:
            with formatter.section(step):
                formatter.write_dl(
                    [(name, COMMANDS[name].short) for name in command_names() if COMMANDS[name].step == step]
                )


def command_names() -> tuple[str, ...]:
    """The commands, in order."""
    return tuple(sorted(COMMANDS))


def _version(ctx: click.Context, param: click.Parameter, wanted: bool) -> None:
    if wanted:
        from zapato import __version__

        click.echo(f"zapato {__version__}")
        ctx.exit()


def _plain(ctx: click.Context, param: click.Parameter, wanted: bool) -> None:
    if wanted:
        from zapato.extensions import off

        off()


APP = Commands(
    "zapato",
    help="Check, build and rehearse devices from a declarative device file.",
    no_args_is_help=False,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    params=[
        click.Option(
            ["--version"],
            is_flag=True,
            is_eager=True,
            expose_value=False,
            callback=_version,
            help="Print the version.",
        ),
        click.Option(
            ["--no-extensions"],
            is_flag=True,
            is_eager=True,
            expose_value=False,
            callback=_plain,
            help="Use no extension: no code of a site, and none that was installed.",
        ),
    ],
)


def run(arguments: Sequence[str]) -> int:
    """Run one call; returns its exit code."""
    word = arguments[0] if arguments else "--help"
    if not word.startswith("-") and word not in command_names():
        import difflib

        near = difflib.get_close_matches(word, command_names(), 1)
        hint = f"did you mean {near[0]}?" if near else f"commands: {', '.join(command_names())}"
        return complain(f'zapato has no command "{word}"', hint)
    try:
        result = APP.main(list(arguments) or [word], prog_name="zapato", standalone_mode=False)
    except Refused as refused:
        return show_refused(refused)
    except ZapatoError as error:
        return complain(str(error), error.fix)
    except click.ClickException as error:
        message = error.format_message().rstrip(".")
        return complain(message[:1].lower() + message[1:], f"zapato {word} --help")
    except click.Abort:
        raise KeyboardInterrupt from None
    except ModuleNotFoundError as error:
        extra = EXTRAS.get((error.name or "").partition(".")[0])
        if extra is None:
            raise
        return complain(f"zapato {word} needs the extra {extra}", f"pip install 'zapato[{extra}]'")
    except OSError as error:
        where = f": {error.filename}" if error.filename else ""
        return complain(f"{(error.strerror or str(error)).lower()}{where}")
    except Exception as error:
        from zapato.extensions import blamed

        if words := blamed(error):
            return complain(words, "zapato --no-extensions …")
        raise
    return result if isinstance(result, int) else 0


def complain(message: str, fix: str = "") -> int:
    """One clear line on standard error, with the way out; returns the exit code for a wrong call."""
    from zapato.cli.terminal import harmless

    click.echo(harmless(f"zapato: {message}" + (f" ({fix})" if fix else "")), err=True)
    return USAGE


def show_refused(refused: Refused, aside: bool = False) -> int:
    """The findings that stand in the way, and one line; returns the exit code. `aside` of what a program reads: all on standard error."""
    from zapato.cli.report import text_of
    from zapato.findings import Finding, Report

    findings = [finding for finding in refused.findings if isinstance(finding, Finding)]
    if findings:
        click.echo(text_of(Report.of(findings, texts=refused.texts)), nl=False, err=aside)
    click.echo(f"zapato: {refused}" + (f" ({refused.fix})" if refused.fix else ""), err=True)
    return 1

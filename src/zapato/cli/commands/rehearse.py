"""zapato rehearse: run the built firmware at the desk."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from zapato.cli.each import Workers, each_device, show_failed, spreading
from zapato.record import record

if TYPE_CHECKING:
    from zapato.simulator import Rehearsal, SiteRehearsal


@record(frozen=True)
class Options:
    """The options of the call, as they were given."""

    script: Path | None
    plot: Path | None
    trace: Path | None
    cards: Path | None
    seed: int | None
    live: bool
    broker: str | None
    ports: tuple[str, ...]
    jobs: int | None
    cluster: str | None
    together: bool
    changed: bool
    brief: bool
    form: str


@click.command("rehearse")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--script",
    type=click.Path(path_type=Path),
    help="The rehearsal file; by default rehearsals/<device>.toml of the site.",
)
@click.option("--plot", type=click.Path(path_type=Path), help="Draw the timeline into this PNG or SVG.")
@click.option(
    "--trace", type=click.Path(path_type=Path), help="Write everything that happened into this CSV."
)
@click.option(
    "--cards",
    type=click.Path(path_type=Path),
    help="Put what stands on the device's SD cards afterwards into this folder, a folder a card.",
)
@click.option("--seed", type=int, help="Seed of everything random; the file's own by default.")
@click.option(
    "--together",
    is_flag=True,
    help="The site's own rehearsal alone, rehearsals/site.toml: its devices in one time, with one broker.",
)
@click.option(
    "--live",
    is_flag=True,
    help="In real time with real sockets; type acts such as button.press, Ctrl-C ends.",
)
@click.option(
    "--broker", metavar="HOST[:PORT]", help="With --live: a real broker; an embedded one by default."
)
@click.option(
    "--serial",
    "ports",
    metavar="LINK=PORT",
    multiple=True,
    help="With --live: a real serial port in place of what the simulator has at a link, such as line=/dev/ttyUSB0.",
)
@spreading
@click.option(
    "--changed",
    is_flag=True,
    help="Only the devices that changed, or whose rehearsal did, since it last passed here.",
)
@click.option("--brief", is_flag=True, help="One line a device, in place of the day's story.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(paths: tuple[Path, ...], **given: Any) -> int:
    """Run devices' firmware in the real MicroPython VM, in virtual time, against a rehearsal file.

    For a site's folder that is each device by itself, and then all together, where the site has a rehearsal of
    its own: rehearsals/site.toml. With --live programs run in real time against a real broker: of one device the
    steps come from --script, or from what is typed; several run at one broker, spread over --jobs processes.

    Exit code 0: every expectation held; 1: one did not, or the firmware crashed; 2: the call was wrong.
    """
    from zapato.checks import all_files
    from zapato.errors import ZapatoError

    options = Options(**given)
    devices = [] if options.together else all_files(paths)
    if options.changed:
        devices = _not_passed(devices, options)
    _fitting(len(devices), options)
    if options.plot:
        from zapato.draw import check_name

        check_name(options.plot)
    if options.live and len(devices) > 1:
        from zapato.cli.live import play_many

        return play_many(devices, options.broker, options.jobs, options.form)
    results: list[Rehearsal | SiteRehearsal] = []
    code = _each(devices, options, results) if devices else 0
    for site in _sites(paths, options):
        try:
            results.append(_together(site, options))
        except ZapatoError as error:
            if options.together:
                raise
            show_failed(site, error, options.form == "json")  # what its devices did is told all the same
            code = 1
            continue
        code = code if results[-1].passed else 1
    if options.form == "json":
        click.echo(json.dumps([result.as_dict() for result in results], indent=2, ensure_ascii=False))
    return code


def _each(devices: list[Path], options: Options, results: list[Any]) -> int:
    """Each device by itself; gives the exit code."""
    from zapato.cli.report import brief_line, rehearsal_lines
    from zapato.errors import ZapatoError
    from zapato.lang.files import write
    from zapato.simulator import rehearse

    workers = Workers(options.jobs, options.cluster)

    def tell(outcome: tuple[str, Rehearsal]) -> bool:
        digest, result = outcome
        results.append(result)
        if result.passed and digest:
            with contextlib.suppress(ZapatoError):
                write(_cached_result(digest), "")
        if options.form == "text":
            click.echo(brief_line(result) if options.brief else "\n".join(rehearsal_lines(result)))
        _files(result, options)
        return result.passed

    if workers.several(len(devices)):
        script = options.script and options.script.absolute()
        work = partial(rehearse, script=script, seed=options.seed)
    else:
        work = partial(_one, options)
    digested = partial(
        _digested, options.script and options.script.absolute(), options.seed, options.live, work
    )
    quiet = options.form == "json"
    return each_device(devices, "rehearsed without a fault", digested, tell, quiet=quiet, workers=workers)


def _digested(
    script: Path | None, seed: int | None, live: bool, work: Callable[[Path], Rehearsal], path: Path
) -> tuple[str, Rehearsal]:
    """What was rehearsed, as a digest taken before; "" where nothing can be kept of it."""
    return "" if live else _digest(path, script, seed), work(path)


def _digest(path: Path, script: Path | None, seed: int | None) -> str:
    from zapato.errors import ZapatoError
    from zapato.firmware.lock import rehearsal_digest

    try:
        return rehearsal_digest(path, script, seed)
    except (ZapatoError, OSError):
        return ""  # the rehearsal itself says it better


def _cached_result(digest: str) -> Path:
    """Where it is kept that this rehearsal passed."""
    from zapato.firmware.compile import cache_folder

    return cache_folder().parent / "passed" / digest


def _not_passed(devices: list[Path], options: Options) -> list[Path]:
    """Those of these that did not pass since they last changed; the others are counted."""
    digests = ((path, _digest(path, options.script, options.seed)) for path in devices)
    rest = [path for path, digest in digests if not digest or not _cached_result(digest).is_file()]
    if len(rest) < len(devices) and options.form == "text":
        done = len(devices) - len(rest)
        click.echo(f"{done:,} of {len(devices):,} devices passed since they last changed")
    return rest


def _one(options: Options, path: Path) -> Rehearsal:
    from zapato.cli.live import play
    from zapato.simulator import rehearse

    if options.live:
        ports = dict(port.split("=", 1) for port in options.ports)
        return play(path, options.script, options.broker, options.form == "json", ports)
    return _metered(path.stem, partial(rehearse, path, options.script, seed=options.seed))


def _metered(name: str, work: Callable[..., Any]) -> Any:
    from zapato.cli.terminal import Meter

    meter = Meter(f"rehearsing {name}")
    try:
        return work(progress=meter.at)
    finally:
        meter.done()


def _sites(paths: tuple[Path, ...], options: Options) -> list[Path]:
    """The sites among these that have a rehearsal of their own; with --together they must."""
    from zapato.checks import root_of
    from zapato.design.site_script import FILE
    from zapato.errors import ZapatoError

    sites = [path for path in paths if root_of(path)]
    if not options.together:
        return [path for path in sites if (path / "rehearsals" / FILE).is_file()]
    if len(sites) != 1 or len(paths) != 1:
        raise ZapatoError("--together takes the folder of one site", "the folder with site.toml")
    return sites


def _together(site: Path, options: Options) -> SiteRehearsal:
    from zapato.checks import device_files
    from zapato.cli.report import site_brief_line, site_lines
    from zapato.design import resolve_all
    from zapato.simulator import rehearse_site

    designs = resolve_all(device_files(site))
    script = options.script if options.together else None
    work = partial(rehearse_site, designs, script, seed=options.seed)
    result: SiteRehearsal = _metered(f"{site.absolute().name} together", work)
    if options.form == "text":
        click.echo(site_brief_line(result) if options.brief else "\n".join(site_lines(result)))
    if options.together:
        _files(result, options)
    return result


def _fitting(count: int, options: Options) -> None:
    """Which options go together. Raises ZapatoError."""
    from zapato.errors import ZapatoError

    given = options
    if given.live and given.cluster:
        raise ZapatoError("--live runs on this machine, without --cluster")
    if given.live and given.jobs and count == 1:
        raise ZapatoError("--jobs spreads several live devices, and this is one", "--live alone")
    if given.together and (given.live or given.cards):
        raise ZapatoError("--live and --cards go with one device, not with --together")
    if count > 1 and (given.script or given.plot or given.trace or given.cards or given.ports):
        fix = "for the site's own rehearsal: --together" if given.script or given.plot or given.trace else ""
        raise ZapatoError("--script, --plot, --trace, --cards and --serial go with one device", fix)
    if given.ports and not given.live:
        raise ZapatoError("--serial goes with --live: a real port works in real time only")
    if wrong := next((port for port in given.ports if "=" not in port), ""):
        raise ZapatoError(f"--serial takes LINK=PORT, not {wrong}", "--serial line=/dev/ttyUSB0")
    if given.broker and not given.live:
        raise ZapatoError("--broker goes with --live: in virtual time the broker is the simulator's own")


def _files(result: Rehearsal | SiteRehearsal, options: Options) -> None:
    from zapato.draw import save, site_timeline, timeline
    from zapato.lang.files import write
    from zapato.simulator import Rehearsal

    if options.cards and isinstance(result, Rehearsal):
        _cards(result, options.cards)
    if options.trace:
        write(options.trace, result.frame.to_csv(index=False))
        click.echo(f"trace: {options.trace}", err=True)
    if options.plot:
        save(timeline(result) if isinstance(result, Rehearsal) else site_timeline(result), options.plot)
        click.echo(f"timeline: {options.plot}", err=True)


def _cards(result: Rehearsal, into: Path) -> None:
    from zapato.lang.files import write
    from zapato.simulator.sdcard import OTHERS

    for card, files in result.cards.items():
        for name, data in files.items():
            if name != OTHERS:
                write(into / card / name, data)
                click.echo(f"card: {into / card / name}", err=True)

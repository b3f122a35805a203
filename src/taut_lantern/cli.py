"""The command line: serve, work, run a whole job unattended, and what the launcher needs."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import secrets
import signal
import socket
import sys
import time
from pathlib import Path
from typing import Annotated

import typer
from rich.console import Console

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False)
console = Console(stderr=True)


@app.command()
def setup(quick: Annotated[bool, typer.Option(help="skip compiling")] = False) -> None:
    """Migrate the database and compile the kernels once (cached)."""
    from .site.solution import renew_old
    from .store.db import migrate
    from .store.queue import apply_schema

    logging.getLogger("alembic").setLevel(logging.WARNING)
    migrate()
    apply_schema()
    renew_old()
    if not quick:
        from .work.loops import keep, kept

        if kept() is None:  # a loop or the compiler is not the one of the last time
            from .standins.warm import warm

            warm()
            keep()


@app.command()
def demo() -> None:
    """Make the demo project when there is none; the worker fills it."""
    from .steps.demo import NAME, ensure
    from .store.queue import app as queue

    with queue.open():
        if ensure():
            console.print(f"[dim]· {NAME} will be scanned and brought in now[/dim]")


@app.command()
def instruments(port: int, points: int = 800_000, with_parent: Annotated[int, typer.Option(hidden=True)] = 0) -> None:
    """The simulated field scanner and total station, on loopback (see docs/instruments.md)."""
    import uvicorn

    from .standins.instruments import make_instruments

    if with_parent:
        _end_with(with_parent)
    uvicorn.run(make_instruments(points), host="127.0.0.1", port=port, log_level="warning", server_header=False)


def _end_with(parent: int) -> None:
    """End when the process ends that started this one."""
    import ctypes

    ctypes.CDLL("libc.so.6").prctl(1, signal.SIGTERM)
    if os.getppid() != parent:  # it ended before it could be asked to tell
        raise typer.Exit


@app.command()
def serve(
    workers: int = 1, simulated: Annotated[bool, typer.Option("--simulated", help="with the simulated instruments beside it")] = False
) -> None:
    """Serve the application and work on its jobs until stopped."""
    import uvicorn

    from .settings import settings

    host, port = settings().host, settings().port
    loopback = host in ("127.0.0.1", "::1", "localhost")
    if not loopback and not settings().token:
        os.environ["LANTERN_TOKEN"] = secrets.token_urlsafe(24)
        settings.cache_clear()
    from .api.app import make_app
    from .work.helpers import Helpers

    try:
        listening = _bound(host, port)
    except OSError as problem:
        console.print(
            f"[bold]{host}:{port} cannot be used: {problem.strerror}[/bold]\nset LANTERN_PORT to another port, or stop what uses it"
        )
        raise typer.Exit(1) from None
    own = [sys.executable, "-m", "taut_lantern.cli"]
    with contextlib.ExitStack() as beside:
        if simulated and not settings().devices:
            at = _free_port()
            os.environ["LANTERN_DEVICES"] = (
                f"Field scanner=http://127.0.0.1:{at}/scanner; Total station=http://127.0.0.1:{at}/total-station"
            )
            settings.cache_clear()
            beside.enter_context(Helpers([*own, "instruments", str(at), "--with-parent", str(os.getpid())], 1))
        beside.enter_context(Helpers([*own, "work", "--with-parent", str(os.getpid())], workers))
        for address in _addresses(host):
            console.print(
                f"\n  Taut Lantern is at [bold]http://{address}:{port}/{'?token=' + settings().token if settings().token else ''}[/bold]",
                soft_wrap=True,
            )
        console.print("  (Ctrl+C stops it)\n")
        config = uvicorn.Config(make_app(), log_level="warning", timeout_graceful_shutdown=2, server_header=False)
        uvicorn.Server(config).run(sockets=[listening])


def _free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


def _bound(host: str, port: int) -> socket.socket:
    """A socket that listens there already: what is printed afterwards works."""
    family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
    listening = socket.socket(family, kind, protocol)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listening.bind(address)
    listening.listen(512)
    listening.set_inheritable(True)
    return listening


def _addresses(host: str) -> list[str]:
    """What a browser can open: for a server that listens everywhere, the addresses of this machine."""
    if host not in ("0.0.0.0", "::", ""):
        return [f"[{host}]" if ":" in host else host]
    found = {"127.0.0.1": None}
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
        asked.connect(("192.0.2.1", 9))  # sends nothing: the kernel names the address it would send from
        found[asked.getsockname()[0]] = None
    with contextlib.suppress(OSError):
        found.update(dict.fromkeys(str(a[4][0]) for a in socket.getaddrinfo(socket.gethostname(), None, socket.AF_INET)))
    return list(found)


@app.command()
def work(concurrency: int = 0, with_parent: Annotated[int, typer.Option(hidden=True)] = 0) -> None:
    """One worker. More of them may run on other machines that reach the database."""
    if with_parent:
        _end_with(with_parent)
    logging.basicConfig(level=logging.WARNING)
    from .work.worker import work as run_worker

    if not asyncio.run(run_worker(concurrency)):  # the queue went away: begin anew, with nothing left of before
        time.sleep(1)
        os.execv(sys.executable, [sys.executable, "-m", "taut_lantern.cli", *sys.argv[1:]])


@app.command()
def run(
    scans: Annotated[list[Path], typer.Argument(help="E57 files or folders of them")],
    deliver: Annotated[Path, typer.Option(help="folder for the deliveries and result.json")],
    control: Annotated[Path | None, typer.Option(help="control file")] = None,
    columns: Annotated[str, typer.Option(help="column order of the control file, e.g. name,n,e,h")] = "",
    unit: Annotated[str, typer.Option(help="unit of the control file: m, mm, ft, us_ft")] = "m",
    targets: Annotated[str, typer.Option(help="targets to find, e.g. spheres:0.0725,boards:0.15 (radius, edge in metres)")] = "",
    answer: Annotated[list[str] | None, typer.Option(help="what is known of two stations, e.g. ST-08,ST-10=two (two rooms)")] = None,
    unlevel: Annotated[bool, typer.Option("--unlevel", help="the scanners may have leaned, by up to 15 degrees")] = False,
    order: Annotated[bool, typer.Option("--order", help="look for each scan only in its neighbours, in the order of the files")] = False,
    hold: Annotated[list[str] | None, typer.Option(help="name of a scan file whose scans keep the poses that it has for them")] = None,
    profile: Annotated[str, typer.Option(help="tolerance profile: as-built, plant steelwork, topographic")] = "",
    sketch: Annotated[Path | None, typer.Option(help="where the scans stand roughly: lines of name, x, y in metres")] = None,
    clean: Annotated[str, typer.Option(help="what goes before it is handed over: movers,noise,ghosts")] = "",
    even: Annotated[float | None, typer.Option(help="one spacing of the clouds over all stations, metres, e.g. 0.005")] = None,
    plans: Annotated[str, typer.Option(help="plans to draw, metres above the floor, e.g. 1.2,4.5")] = "",
    sections: Annotated[str, typer.Option(help="auto: two sections through the middle")] = "",
    elevations: Annotated[str, typer.Option(help="auto: the four sides of the plan")] = "",
    keep: Annotated[bool, typer.Option(help="keep the project in the database")] = True,
) -> None:
    """A whole job without a screen: bring in, tie, place, hand over. Exit 0 when all is connected and nothing is parted, else 3."""
    from .core.errors import LanternError
    from .steps.drawing import read_wanted
    from .steps.unattended import Known, run_job
    from .store.db import actor

    actor.set("command line")
    try:
        cleaned = [w.strip() for w in clean.split(",") if w.strip()]
        drawings = read_wanted(plans, sections, elevations)
        known = Known(answer or [], unlevel, order, hold or [], profile, sketch, cleaned, even, drawings)
        code = run_job(scans, deliver, control, columns, unit, targets, keep, console, known)
    except LanternError as problem:
        console.print(f"[bold]{problem.message}[/bold]\n{problem.remedy}")
        raise typer.Exit(2) from None
    raise typer.Exit(code)


@app.command()
def openapi(path: Path) -> None:
    """Write the OpenAPI document."""
    import json

    from .api.app import make_app

    path.write_text(json.dumps(make_app().openapi(), indent=1, sort_keys=True) + "\n")


if __name__ == "__main__":
    app()

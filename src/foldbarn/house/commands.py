"""The entry script's commands: demo, test, dev, bench, shots."""

from __future__ import annotations

import hashlib
import json
import os
import platform
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from typing import Annotated

import typer

from foldbarn.settings import PROJECT

HOME = PROJECT / ".barn"
WEB = PROJECT / "web"
HANDS = ("-n", "3", "--dist", "loadfile", "--no-loadscope-reorder")  # of the tests
GENTLY = ("nice", "-n", "10")  # checks, beside tests that wait for whole barns and pages
app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    help="Fold Barn's entry script.",
    pretty_exceptions_enable=False,
)


def say(text: str) -> None:
    print(text, flush=True)


def node_environment() -> dict[str, str]:
    """The environment in which node and npm are those of the virtual environment."""
    return {**os.environ, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}


def start(*command: str, cwd: Path = PROJECT, **extra: str) -> subprocess.Popen[bytes]:
    """Starts a tool."""
    environment = {**node_environment(), "PYTHONPATH": str(PROJECT / "src"), **extra}
    return subprocess.Popen(command, cwd=cwd, env=environment)


def finish(tool: subprocess.Popen[bytes], command: tuple[str, ...]) -> None:
    """Waits for a tool; ends this process with its code when it fails."""
    code = tool.wait()
    if code:
        say(f"barn: {' '.join(command)} ended with code {code}.")
        raise SystemExit(code)


def run(*command: str, cwd: Path = PROJECT, **extra: str) -> None:
    """Runs a tool; ends this process with its code when it fails."""
    finish(start(*command, cwd=cwd, **extra), command)


def fingerprint(paths: list[Path]) -> str:
    digest = hashlib.sha256()
    for path in sorted(p for p in paths if p.is_file()):
        digest.update(str(path.relative_to(PROJECT)).encode() + path.read_bytes())
    return digest.hexdigest()


def make_packages() -> None:
    """Installs the front end's packages when their lock has changed."""
    stamp, mark = WEB / "node_modules" / ".barn-stamp", fingerprint([WEB / "package-lock.json"])
    if not stamp.exists() or stamp.read_text() != mark:
        say("Installing the front end's packages ...")
        run("npm", "ci", "--no-audit", "--no-fund", "--loglevel=error", cwd=WEB)
        stamp.write_text(mark)


def make_front_end() -> None:
    """Builds the front end when its sources have changed."""
    make_packages()
    sources = [p for p in (WEB / "src").rglob("*") if p.is_file()] + [
        WEB / f for f in ("index.html", "package-lock.json", "vite.config.ts")
    ]
    stamp, mark = WEB / "dist" / ".barn-stamp", fingerprint(sources)
    if not stamp.exists() or stamp.read_text() != mark:
        say("Building the front end ...")
        run("npm", "run", "--silent", "build", "--", "--logLevel", "warn", cwd=WEB)
        stamp.write_text(mark)


def write_openapi(target: Path) -> None:
    from foldbarn.api.app import make_app

    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_text(json.dumps(make_app().openapi(), indent=1, sort_keys=True))


@app.command()
def demo(
    state: Annotated[Path, typer.Option(help="Folder that keeps everything.")] = HOME / "demo",
    port: Annotated[int, typer.Option(help="Port of the one address.")] = 7420,
    bare: Annotated[bool, typer.Option("--bare", help="Machines that have only just reported in.")] = False,
    fresh: Annotated[bool, typer.Option("--fresh", help="Forget what the state folder keeps.")] = False,
    quick: Annotated[bool, typer.Option("--quick", hidden=True)] = False,
) -> None:
    """Starts everything and prints one address; Ctrl-C stops it all."""
    from foldbarn.house.barn import Barn, InUse
    from foldbarn.house.demo import Demo

    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    make_front_end()
    barn = Barn(state, port, quick)
    try:
        say("Starting the database, the yard and Fold Barn ...")
        barn.start(fresh)
        if not bare:
            with closing(Demo(barn.url)) as engineer:
                engineer.fill()
        say(f"Fold Barn is ready at {barn.url}")
        barn.run_until_stopped()
    except (InUse, RuntimeError) as error:
        say(f"barn: {error}")
        raise SystemExit(1) from error
    except KeyboardInterrupt:
        pass
    finally:
        barn.stop()
    say("Everything is stopped; what it kept is in the state folder.")


@app.command()
def dev(port: int = 7420, web_port: int = 7421) -> None:
    """The demo with servers that reload: Python on every save, the front end at once."""
    from foldbarn.house.barn import Barn

    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))

    make_packages()
    (WEB / "dist").mkdir(exist_ok=True)
    barn = Barn(HOME / "dev", port, reload=True)
    vite = None
    try:
        barn.start()
        # A group of its own: npm and its shell do not pass the signal on that ends it.
        server = ["npm", "run", "dev", "--", "--port", str(web_port), "--strictPort"]
        vite = subprocess.Popen(
            server, cwd=WEB, env={**node_environment(), "BARN_API": barn.url}, start_new_session=True
        )
        say(f"Fold Barn is ready at http://127.0.0.1:{web_port} (API at {barn.url})")
        barn.run_until_stopped()
    except KeyboardInterrupt:
        pass
    finally:
        if vite:
            os.killpg(vite.pid, signal.SIGTERM)
        barn.stop()


@app.command()
def agent(
    home: Annotated[
        str, typer.Option(help="Address of Fold Barn, to announce this machine to; empty for nowhere.")
    ] = "",
    host: Annotated[
        str, typer.Option(help="Address to listen on: one that Fold Barn can reach.")
    ] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen on.")] = 7400,
    name: Annotated[str, typer.Option(help="What this node is called.")] = platform.node().split(".")[0],
    room: Annotated[str, typer.Option(help="Room it stands in.")] = "Unplaced",
    rack: Annotated[str, typer.Option(help="Rack it stands in.")] = "unplaced",
    key_file: Annotated[
        Path, typer.Option(help="Where this agent keeps the key that proves who it is.")
    ] = HOME / "agent.key",
    purpose: Annotated[
        list[str] | None,
        typer.Option(help="What a network port is for, such as eno1=storage; may be repeated."),
    ] = None,
) -> None:
    """Reports this machine's hardware to a Fold Barn. Nothing on the machine is changed."""
    import uvicorn

    from foldbarn.agent.machine import Machine
    from foldbarn.agent.server import make_app, own_key

    purposes = dict(p.split("=", 1) for p in purpose or [] if "=" in p)
    own_url = f"http://[{host}]:{port}" if ":" in host else f"http://{host}:{port}"
    say(f"Reporting {name} at {own_url}")
    uvicorn.run(
        make_app(Machine(name, room, rack, purposes), own_url, home, own_key(key_file)),
        host=host,
        port=port,
        log_level="warning",
    )


@app.command()
def types() -> None:
    """Generates the front end's types from the API's description."""
    make_packages()
    write_openapi(HOME / "openapi.json")
    run("npx", "openapi-typescript", str(HOME / "openapi.json"), "-o", "src/api/schema.gen.ts", cwd=WEB)


def check_types() -> None:
    """Ends the run when the front end's types are not those of today's API."""
    write_openapi(HOME / "openapi.json")
    fresh = HOME / "schema.gen.ts"
    run(*GENTLY, "npx", "openapi-typescript", str(HOME / "openapi.json"), "-o", str(fresh), cwd=WEB)
    if fresh.read_text() != (WEB / "src/api/schema.gen.ts").read_text():
        say("barn: web/src/api/schema.gen.ts is stale; run ./barn types.")
        raise SystemExit(1)


def check_python() -> None:
    """Style, types and layers."""
    run(*GENTLY, "ruff", "check", ".")
    run(*GENTLY, "ruff", "format", "--check", "--quiet", ".")
    run(*GENTLY, "mypy")
    run(*GENTLY, "lint-imports", "--no-cache")


def check_front_end() -> None:
    """Its generated types, style, types and unit tests."""
    check_types()
    run(*GENTLY, "npm", "run", "--silent", "lint", cwd=WEB)
    run(*GENTLY, "npm", "run", "--silent", "check", cwd=WEB)
    run(*GENTLY, "npm", "run", "--silent", "test", cwd=WEB)


@app.command(context_settings={"allow_extra_args": True, "ignore_unknown_options": True})
def test(
    context: typer.Context,
    only: Annotated[
        bool, typer.Option("--only", help="Only pytest, with the arguments that follow.")
    ] = False,
) -> None:
    """Everything: style, types, layers, the front end's checks, then pytest. Arguments go to pytest."""
    make_front_end()
    # Side by side, as tests/conftest.py deals them out. One hand more than cores: what is waited for
    # are stand-ins whose time runs, and pages.
    hands = () if any(a in ("-n", "-p", "--pdb", "-s") or a.startswith("-n") for a in context.args) else HANDS
    slowest = () if any(a.startswith("--durations") for a in context.args) else ("--durations=20",)
    command = ("pytest", *hands, *slowest, *context.args)
    if only:
        run(*command)
        return
    # The checks beside the tests, which wait for stand-ins much of the time. Where a check fails the tests
    # are ended.
    tests = start(*command)
    try:
        with ThreadPoolExecutor() as sides:
            for side in [sides.submit(check_python), sides.submit(check_front_end)]:
                side.result()
    except BaseException:
        tests.terminate()
        tests.wait()
        raise
    finish(tests, command)


@app.command()
def soak(
    minutes: Annotated[float, typer.Option(help="For at least so long.")] = 10.0,
    steps: Annotated[int, typer.Option(help="At most so many things happen to each site.")] = 60,
    small: Annotated[
        bool, typer.Option(help="Make what fails as small as can be, which takes long.")
    ] = False,
) -> None:
    """Many changes at once while nodes fail and return, in ever new orders, until time is up or something
    does not hold.
    """
    until = time.monotonic() + minutes * 60
    while True:
        run(
            "pytest",
            "tests/changes/test_stateful.py",
            FOLDBARN_SOAK_EXAMPLES="10",
            FOLDBARN_SOAK_STEPS=str(steps),
            FOLDBARN_SOAK_SHRINK="1" if small else "",
            CI="",  # so that the orders are new ones each time
        )
        if time.monotonic() > until:
            return
        say(f"It holds; {max(0, round((until - time.monotonic()) / 60))} more minutes.")


@app.command()
def bench() -> None:
    """Measures, as ratios against something in the same run."""
    run(sys.executable, "-m", "bench.table", PYTHONPATH=f"{PROJECT / 'src'}:{PROJECT}")


@app.command()
def shots() -> None:
    """Refreshes docs/screenshots/ from a demo of its own."""
    make_front_end()
    run(sys.executable, "-m", "bench.shots", PYTHONPATH=f"{PROJECT / 'src'}:{PROJECT}")


if __name__ == "__main__":
    app()

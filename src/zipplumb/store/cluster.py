"""Our own PostgreSQL cluster on loopback, from Debian's packages.

A PostgreSQL server refuses to run as root; as root everything runs as user postgres.
"""

from __future__ import annotations

import hashlib
import os
import pwd
import secrets
import shutil
import socket
import subprocess
from pathlib import Path

import psycopg
from psycopg import sql

from ..core.errors import InputError


class Cluster:
    """A database cluster in ``folder``; ``start`` makes it where there is none.

    ``durable``: what is committed outlives a loss of power, and not only the death of any process.
    """

    def __init__(self, folder: Path, durable: bool = True):
        self.folder, self.durable = folder.resolve(), durable
        self.as_root = os.geteuid() == 0
        self.home = self._reachable_home()
        self.data = self.home / "data"
        self.started = False

    def start(self) -> str:
        """Start it and return its address; one that runs already is used as it is."""
        if not (self.data / "PG_VERSION").exists():
            self._create()
        elif not (self.home / "keeper").exists():
            raise InputError(
                f"The database in {self.folder} is of an earlier version, whose role was a superuser.",
                "It was left as it is.",
                "Choose another folder, or begin again with --fresh.",
            )
        if not self._running():
            if not (self.home / "port").exists():  # the same one again: everybody knows it
                (self.home / "port").write_text(str(free_port()))
            options = f"-c listen_addresses=127.0.0.1 -c unix_socket_directories= -p {self.port}"
            if not self.durable:
                options += " -c fsync=off -c full_page_writes=off"
            self._do("pg_ctl", "-D", self.data, "-l", self.home / "log", "-w", "-t", "60", "-o", options, "start")
            self.started = True
        self._own_database()
        return self.url

    def answers(self) -> bool:
        """Its first process is alive."""
        try:
            os.kill(int((self.data / "postmaster.pid").read_text().split()[0]), 0)
        except (OSError, ValueError, IndexError):
            return False
        return True

    def stop(self) -> None:
        """Stop it, if this object started it."""
        if self.started and self._running():
            self._do("pg_ctl", "-D", self.data, "-m", "fast", "-w", "stop")
        self.started = False

    def restart(self) -> None:
        self._do("pg_ctl", "-D", self.data, "-m", "fast", "-w", "-l", self.home / "log", "restart")

    def destroy(self) -> None:
        self.stop()
        shutil.rmtree(self.home, ignore_errors=True)

    @property
    def port(self) -> int:
        return int((self.home / "port").read_text())

    @property
    def url(self) -> str:
        """For the application: its role owns its own database and no more."""
        return self._url("zipplumb", "password", "zipplumb")

    @property
    def keeper_url(self) -> str:
        """For who keeps the cluster: a superuser."""
        return self._url("keeper", "keeper", "postgres")

    def _url(self, role: str, secret: str, database: str) -> str:
        return f"postgresql://{role}:{(self.home / secret).read_text()}@127.0.0.1:{self.port}/{database}"

    def _own_database(self) -> None:
        """The application's role and database, where they are not there yet."""
        with psycopg.connect(self.keeper_url, autocommit=True) as connection:
            if connection.execute("SELECT 1 FROM pg_roles WHERE rolname = 'zipplumb'").fetchone() is None:
                password = sql.Literal((self.home / "password").read_text())
                connection.execute(sql.SQL("CREATE ROLE zipplumb LOGIN PASSWORD {}").format(password))
            if connection.execute("SELECT 1 FROM pg_database WHERE datname = 'zipplumb'").fetchone() is None:
                connection.execute("CREATE DATABASE zipplumb OWNER zipplumb")

    def _reachable_home(self) -> Path:
        """``folder``, or a place beside it where user postgres may not walk to it."""
        if not self.as_root:
            return self.folder
        self.folder.parent.mkdir(parents=True, exist_ok=True)
        asked = subprocess.run(["runuser", "-u", "postgres", "--", "test", "-x", str(self.folder.parent)])
        if asked.returncode == 0:
            return self.folder
        return Path("/var/tmp") / f"zipplumb-{hashlib.sha256(str(self.folder).encode()).hexdigest()[:12]}"

    def _create(self) -> None:
        self.home.mkdir(parents=True, exist_ok=True)
        for name in ("keeper", "password"):
            secret = self.home / name
            secret.touch(mode=0o600)
            secret.write_text(secrets.token_urlsafe(18))
        if self.as_root:
            owner = pwd.getpwnam("postgres")
            for path in (self.home, self.home / "keeper", self.home / "password"):
                os.chown(path, owner.pw_uid, owner.pw_gid)
        self._do(
            "initdb", "-D", self.data, "-U", "keeper", "--pwfile", self.home / "keeper", "-A", "scram-sha-256", "-E", "UTF8",
            "--locale=C.UTF-8", *(() if self.durable else ("--no-sync",)),
        )  # fmt: skip

    def _running(self) -> bool:
        return self._run("pg_ctl", "-D", self.data, "status").returncode == 0

    def _run(self, program: str, *arguments) -> subprocess.CompletedProcess:
        command = [str(_binary(program, self._version())), *map(str, arguments)]
        if self.as_root:
            command = ["runuser", "-u", "postgres", "--", *command]
        return subprocess.run(
            command,
            cwd="/",
            start_new_session=True,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def _do(self, program: str, *arguments) -> None:
        if self._run(program, *arguments).returncode != 0:
            raise InputError(
                f"{program} failed for the database in {self.home}{self._last_words()}.", "What was there is kept.",
                "Make room on the disk if it is full, and start again.",
            )  # fmt: skip

    def _last_words(self) -> str:
        """Of its log, what it died of."""
        try:
            lines = (self.home / "log").read_text(errors="replace").splitlines()[-40:]
        except OSError:
            return ""
        said = [line.split(":  ", 1)[-1] for line in lines if any(word in line for word in ("PANIC:", "FATAL:"))]
        return f": {said[-1]}" if said else f"; its log is {self.home / 'log'}"

    def _version(self) -> str:
        """The server that made it, or any where there is none yet."""
        try:
            return (self.data / "PG_VERSION").read_text().strip()
        except OSError:
            return "*"


INSTALLED = Path("/usr/lib/postgresql")


def _binary(program: str, version: str) -> Path:
    """A program of PostgreSQL, of the version that the data is of: another cannot read it."""
    found = sorted(INSTALLED.glob(f"{version}/bin/{program}"))
    if found:
        return found[-1]
    if version != "*" and (others := sorted(path.parent.parent.name for path in INSTALLED.glob(f"*/bin/{program}"))):
        raise InputError(
            f"The database was made by PostgreSQL {version}; here is {' and '.join(others)}.", "It was left as it is.",
            f"Install PostgreSQL {version} beside it, choose another folder, or begin again with --fresh.",
        )  # fmt: skip
    on_path = shutil.which(program)
    if on_path is None:
        raise InputError("PostgreSQL is not installed.", "Nothing was started.", "./run installs it from Debian's packages.")
    return Path(on_path)


def held_port() -> socket.socket:
    """A free port of loopback that nobody else is given while the socket is open, until a process of ours listens there.

    Whoever listens there sets SO_REUSEADDR, as servers do.
    """
    held = socket.socket()
    held.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    held.bind(("127.0.0.1", 0))
    return held


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]

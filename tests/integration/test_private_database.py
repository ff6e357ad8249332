"""The private PostgreSQL: made once, found again, never root's, gone with whoever started it."""

import os
import shutil
import socket
import tempfile
from pathlib import Path

import psycopg
import pytest

from keen_horizon.launch.__main__ import chosen_port
from keen_horizon.launch.postgres import Server, database_url, free_port

pytestmark = pytest.mark.integration


def ask(url: str, *queries: str):
    """The first value of the last query's answer."""
    with psycopg.connect(url, autocommit=True) as connection:
        for query in queries:
            answer = connection.execute(query)
        return answer.fetchone()[0]


@pytest.fixture
def folder(monkeypatch):
    """A place that the cluster's owner can reach, whoever runs the tests."""
    monkeypatch.delenv("KEEN_DATABASE_URL", raising=False)
    path = Path(tempfile.mkdtemp(prefix="keen-test-"))
    yield path
    shutil.rmtree(path, ignore_errors=True)


def test_it_is_made_once_keeps_its_data_and_stops(folder):
    with Server(folder) as server:
        url = server.url
        assert url.startswith("postgresql://keen:")
        assert "@127.0.0.1:" in url
        ask(url, "create table kept as select 42 as answer", "select 1")
        assert ask(url, "show listen_addresses") == "127.0.0.1"
        assert ask(url, "show unix_socket_directories") == ""
        owner = (folder / "data").stat().st_uid
        assert owner != 0
        # A second one finds it running and leaves it running.
        with Server(folder) as again:
            assert again.url == url
        assert ask(url, "select answer from kept") == 42
    with pytest.raises(psycopg.OperationalError):
        psycopg.connect(url, connect_timeout=2)
    with Server(folder) as server:
        assert ask(server.url, "select answer from kept") == 42


def test_nobody_without_the_password_comes_in(folder):
    with Server(folder) as server:
        wrong = server.url.replace(server.url.split(":")[2].split("@")[0], "guess")
        with pytest.raises(psycopg.OperationalError, match="password"):
            psycopg.connect(wrong, connect_timeout=5)
        assert (folder / "password").stat().st_mode & 0o077 == 0


def test_a_making_that_was_broken_off_is_made_again_and_thrown_away_never(folder):
    (folder / "data").mkdir()
    (folder / "data" / "PG_VERSION").write_text("15\n")
    with Server(folder) as server:
        assert ask(server.url, "select 1") == 1
    broken = [p for p in folder.iterdir() if p.name.startswith("broken-")]
    assert len(broken) == 1
    assert (broken[0] / "PG_VERSION").exists()


def test_an_existing_database_is_used_instead(monkeypatch, folder):
    monkeypatch.setenv("KEEN_DATABASE_URL", "postgresql://somebody@elsewhere/else")
    with database_url(folder) as url:
        assert url == "postgresql://somebody@elsewhere/else"
    assert list(folder.iterdir()) == []


@pytest.mark.parametrize("wrong", ["0", "70000", "many"])
def test_a_port_that_is_none_is_refused(monkeypatch, wrong):
    monkeypatch.setenv("KEEN_PORT", wrong)
    with pytest.raises(SystemExit, match="use a number"):
        chosen_port()


def test_a_taken_port_is_not_taken_over(monkeypatch):
    with socket.socket() as holder:
        holder.bind(("127.0.0.1", 0))
        holder.listen()
        port = holder.getsockname()[1]
        monkeypatch.setenv("KEEN_PORT", str(port))
        with pytest.raises(SystemExit, match="in use"):
            chosen_port()
        # Without a wish, another one is found.
        monkeypatch.delenv("KEEN_PORT")
        monkeypatch.setattr("keen_horizon.launch.__main__.PREFERRED_PORT", port)
        assert chosen_port() not in (0, port)
    assert 0 < free_port() < 65536
    assert os.environ.get("KEEN_PORT") is None

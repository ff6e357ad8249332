"""The launcher: what it installs, when it does not, and what it says."""

import importlib.machinery
import importlib.util
import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from keen_horizon import cli

KEEN = Path(__file__).parents[2] / "keen"


@pytest.fixture
def keen(tmp_path, monkeypatch):
    """The launcher as a module, at home in an empty folder, its commands only noted."""
    loader = importlib.machinery.SourceFileLoader("keen_launcher", str(KEEN))
    module = importlib.util.module_from_spec(importlib.util.spec_from_loader(loader.name, loader))
    loader.exec_module(module)
    monkeypatch.setattr(module, "HERE", tmp_path)
    monkeypatch.setattr(module, "VENV", tmp_path / ".venv")
    (tmp_path / "requirements.txt").write_text("one==1\n")
    (tmp_path / "requirements-dev.txt").write_text("-r requirements.txt\ntwo==2\n")
    module.ran = []

    def run(command, **options):
        module.ran.append([str(part) for part in command])
        if "venv" in command:
            (tmp_path / ".venv" / "bin").mkdir(parents=True)
            for name in ("python", "pip"):
                (tmp_path / ".venv" / "bin" / name).touch()
        return subprocess.CompletedProcess(command, 0, "", "")

    monkeypatch.setattr(module.subprocess, "run", run)
    return module


def installs(module) -> list[str]:
    """Which list of packages was installed, in order; forgets them."""
    found = [Path(command[-1]).name for command in module.ran if "install" in command]
    module.ran.clear()
    return found


def test_a_first_start_makes_an_environment_and_a_second_does_nothing(keen):
    python = keen.ensure_python("demo")
    assert python == keen.VENV / "bin" / "python"
    assert any("venv" in command for command in keen.ran)
    assert installs(keen) == ["requirements.txt"]
    assert keen.ensure_python("demo") == python
    assert keen.ran == []


def test_what_developers_have_serves_the_application_too(keen):
    keen.ensure_python("test")
    assert installs(keen) == ["requirements-dev.txt"]
    keen.ensure_python("demo")
    keen.ensure_python("lint")
    assert installs(keen) == []


def test_new_pins_are_installed(keen, tmp_path):
    keen.ensure_python("test")
    installs(keen)
    (tmp_path / "requirements.txt").write_text("one==1.1\n")
    keen.ensure_python("serve")
    assert installs(keen) == ["requirements.txt"]
    keen.ensure_python("test")
    assert installs(keen) == ["requirements-dev.txt"]


def test_an_environment_that_was_thrown_away_is_made_again(keen):
    keen.ensure_python("demo")
    (keen.VENV / "bin" / "python").unlink()
    (keen.VENV / "bin" / "pip").unlink()
    (keen.VENV / "bin").rmdir()
    keen.ran.clear()
    keen.ensure_python("demo")
    assert installs(keen) == ["requirements.txt"]


def test_packages_of_the_system_only_where_a_command_needs_them(keen, monkeypatch):
    asked = []
    monkeypatch.setattr(keen, "apt", lambda packages, why: asked.append(packages))
    monkeypatch.setattr(keen, "postgres_found", lambda: False)
    monkeypatch.setattr(keen.shutil, "which", lambda name: None)
    monkeypatch.delenv("KEEN_DATABASE_URL", raising=False)
    keen.ensure_packages("correct")
    assert asked == []
    for command in ("demo", "test", "lint"):
        keen.ensure_packages(command)
    node = ["nodejs", "npm"]
    assert asked == [["postgresql"], ["postgresql"], ["chromium"], node, node]
    monkeypatch.setenv("KEEN_DATABASE_URL", "postgresql://somewhere/else")
    keen.ensure_packages("demo")
    assert len(asked) == 5


def test_what_checks_the_scripts_is_installed_once_and_again_when_its_pins_change(keen, tmp_path):
    lock = tmp_path / "package-lock.json"
    lock.write_text("{}")
    (tmp_path / "node_modules").mkdir()
    keen.ensure_scripts("demo")
    assert keen.ran == []
    for pins in ("{}", "{}", '{"other": 1}'):
        lock.write_text(pins)
        keen.ensure_scripts("lint")
    assert [command[:2] for command in keen.ran] == [["npm", "ci"]] * 2


def test_a_failed_installation_is_shown_and_ends(keen, monkeypatch, capsys):
    def run(command, **options):
        return subprocess.CompletedProcess(command, 1, "no such version\n", "")

    keen.ensure_python("demo")
    (keen.HERE / "requirements.txt").write_text("one==99\n")
    monkeypatch.setattr(keen.subprocess, "run", run)
    with pytest.raises(SystemExit):
        keen.ensure_python("demo")
    said = capsys.readouterr().err
    assert "no such version" in said
    assert "could not be installed" in said
    assert "99" not in json.loads((keen.VENV / "installed.json").read_text())


@pytest.mark.parametrize(("arguments", "status"), [([], 0), (["--help"], 0), (["fly"], 2)])
def test_an_unknown_command_shows_the_known_ones(arguments, status):
    done = subprocess.run([sys.executable, KEEN, *arguments], capture_output=True, text=True)
    assert done.returncode == status
    for command in ("demo", "serve", "worker", "measure", "correct", "cost", "treatment", "test"):
        assert command in done.stdout


@pytest.mark.parametrize("command", ["measure", "correct", "cost", "treatment"])
def test_commands_without_a_server_reach_the_command_line(keen, monkeypatch, command):
    started = []
    monkeypatch.setattr(keen.os, "execve", lambda path, arguments, _: started.append(arguments))
    monkeypatch.setattr(keen.sys, "argv", ["keen", command, "--help"])
    keen.main()
    assert started[0][1:] == ["-m", "keen_horizon.cli", command, "--help"]


def test_the_command_line_and_the_launcher_know_the_same_commands(keen, capsys):
    with pytest.raises(SystemExit):
        cli.main(["--help"])
    said = capsys.readouterr().out
    assert set(re.findall(r"^ {4}(\w+)", said, re.MULTILINE)) == keen.WITHOUT_SERVER

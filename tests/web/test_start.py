"""What ./start refuses, in words, touching nothing."""

import socket
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tools"))

import cluster  # noqa: E402
import local  # noqa: E402


def test_a_busy_port_is_refused():
    with socket.socket() as busy:
        busy.bind(("127.0.0.1", 0))
        busy.listen()
        port = busy.getsockname()[1]
        done = subprocess.run([ROOT / "start", "--port", str(port)], capture_output=True, text=True, timeout=300)
    assert done.returncode == 1
    assert f"Port {port} is in use" in done.stderr


def test_the_data_of_another_postgresql_are_left_alone(tmp_path, monkeypatch):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    (tmp_path / "postgres").mkdir()
    (tmp_path / "postgres" / "PG_VERSION").write_text("9\n")
    with pytest.raises(local.Refused, match=r"made by PostgreSQL 9, and this machine has .*Nothing was touched"):
        cluster.Cluster("postgres", lasting=True)
    assert [file.name for file in (tmp_path / "postgres").iterdir()] == ["PG_VERSION"]


def test_a_machine_without_a_package_manager_is_told_what_to_do(monkeypatch):
    monkeypatch.setattr(local.shutil, "which", lambda name: None)
    with pytest.raises(local.Refused, match=r"no apt-get.*DATABASE_URL"):
        local.need_packages({"postgresql": False})


def test_an_ordinary_user_is_told_the_command(monkeypatch):
    monkeypatch.setattr(local.shutil, "which", lambda name: "/usr/bin/apt-get")
    monkeypatch.setattr(local.os, "geteuid", lambda: 1000)
    with pytest.raises(local.Refused, match="sudo apt-get install postgresql"):
        local.need_packages({"postgresql": False})


def test_another_server_that_does_not_answer_is_a_sentence():
    import os

    surroundings = {**os.environ, "DATABASE_URL": f"postgresql://nobody:x@127.0.0.1:{local.free_port()}/none"}
    done = subprocess.run(
        [ROOT / "start", "--port", str(local.free_port())],
        capture_output=True,
        text=True,
        timeout=300,
        env=surroundings,
    )
    assert done.returncode == 1
    assert "The database cannot be reached" in done.stderr
    assert "Traceback" not in done.stderr

"""What ./start refuses, in words, touching nothing."""

import runpy
import socket
import subprocess
import sys
from itertools import pairwise
from pathlib import Path
from threading import Timer

import pytest

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tools"))

import cluster  # noqa: E402
import local  # noqa: E402
import running  # noqa: E402


def test_a_busy_port_is_refused():
    with socket.socket() as busy:
        busy.bind(("127.0.0.1", 0))
        busy.listen()
        port = busy.getsockname()[1]
        done = subprocess.run([ROOT / "start", "--port", str(port)], capture_output=True, text=True, timeout=300)
    assert done.returncode == 1
    assert f"Port {port} is in use" in done.stderr


def test_a_port_that_a_killed_run_lets_go_late_is_waited_for():
    busy = socket.create_server(("127.0.0.1", 0))
    port = busy.getsockname()[1]
    bound = runpy.run_path(str(ROOT / "start"))["_bound"]
    with pytest.raises(local.Refused, match=f"Port {port} is in use"):
        bound(port, 0)
    Timer(0.5, busy.close).start()
    with bound(port, 20) as ear:
        assert ear.getsockname() == ("127.0.0.1", port)


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


def test_a_secret_that_was_never_written_is_made_again(tmp_path, monkeypatch):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    (tmp_path / "key").write_text("")
    made = local.secret("key")
    assert len(made) > 40
    assert local.secret("key") == made
    assert (tmp_path / "key").stat().st_mode & 0o077 == 0


def test_an_environment_left_in_the_middle_is_made_anew(tmp_path, monkeypatch):
    commands = []

    def run(command, what, **options):
        commands.append("venv" if "venv" in command else "pip")
        if len(commands) == 4:
            raise KeyboardInterrupt
        (tmp_path / "venv").mkdir(exist_ok=True)

    monkeypatch.setattr(local, "LOCAL", tmp_path)
    monkeypatch.setattr(local, "run", run)
    with pytest.raises(KeyboardInterrupt):
        local.environment(tests=False)
    local.environment(tests=False)
    assert commands == ["venv", "pip", "pip", "pip"] * 2
    local.environment(tests=False)
    assert len(commands) == 8
    (tmp_path / "venv" / "installed-app").write_text("for other packages")
    local.environment(tests=False)
    assert commands[8:] == ["pip", "pip", "pip"]


def test_only_one_runs_from_a_folder_and_it_can_be_told_who(tmp_path, monkeypatch):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    lock = running.Lock("start")
    assert lock.holder() is None
    with lock:
        assert running.Lock("start").holder() == running.own()
        with pytest.raises(local.Refused, match="--stop"), running.Lock("start"):
            pass
    assert lock.holder() is None


def test_what_a_killed_run_left_is_ended_and_nobody_elses_process(tmp_path, monkeypatch):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    left, other = (subprocess.Popen(["sleep", "60"]) for _ in range(2))
    try:
        ours, theirs = running.identity(left.pid), running.identity(other.pid)
        record = running.Record("start")
        record.write([ours, running.Process(theirs.pid, "started at another time")])
        assert record.end_left_over()
        assert left.wait(5) == -15
        assert theirs.is_alive()
        assert not record.end_left_over()
        record.file.write_text("{")
        assert not record.end_left_over()
    finally:
        other.kill()
        other.wait()
        left.kill()


def test_a_run_that_is_ended_by_a_signal_leaves_no_child_behind(tmp_path):
    # A child in a session of its own, which starts another and goes: as a test's server and its workers.
    script = f"""
import subprocess, sys, time
sys.path.insert(0, {str(ROOT / "tools")!r})
from running import nothing_left_behind
with nothing_left_behind():
    child = subprocess.Popen(["sh", "-c", "sleep 641 & trap '' TERM; sleep 642"], start_new_session=True)
    subprocess.run(["sh", "-c", "sleep 643 & exit"])
    print("ready", flush=True)
    time.sleep(60)
"""
    with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True) as run:
        assert run.stdout.readline() == "ready\n"
        left = [running.identity(pid) for pid in running._descendants(run.pid)]
        assert len(left) >= 4
        run.terminate()
        assert run.wait(30) == 128 + 15
    assert not [process for process in left if process and process.is_alive()]


def test_a_process_that_keeps_ending_is_given_up_with_a_sentence(tmp_path, monkeypatch, capsys):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    child = running.Child("web process", ["false"], {})
    later = running.Child("task worker", ["true"], {})  # which is started once pages are served
    supervisor = running.Supervisor([child, later], running.Record("start"), None)
    supervisor.launch(child)
    monkeypatch.setattr(running, "_FIRST_WAIT", 0.01)
    with pytest.raises(local.Refused, match="web process ended 5 times"):
        supervisor.watch()
    assert capsys.readouterr().out.count("ended with status 1") == 4


def test_once_it_has_served_nothing_makes_it_give_up_and_every_end_has_its_reason(tmp_path, monkeypatch, capsys):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    now = [1000.0]
    monkeypatch.setattr(running.time, "monotonic", lambda: now[0])
    child = running.Child("web process", ["sh", "-c", "kill -9 $$"], {})
    supervisor = running.Supervisor([child], running.Record("start"), None)
    supervisor.has_served = True
    supervisor.launch()
    waits, last = [], None
    for _ in range(9):
        last = child.process
        last.wait(5)
        supervisor.look()
        waits.append(child.due - now[0] if child.due else 0.0)
        if child.process is last:
            now[0] += waits[-1] - 0.001
            supervisor.look()
            assert child.process is last
            now[0] += 0.001
            supervisor.look()
        assert child.process is not last
    assert waits == [0.5, 1, 2, 4, 8, 16, 32, 60, 60]
    assert capsys.readouterr().out.count("ended by signal 9, SIGKILL") == 9
    now[0] += 11  # it ran for long enough: the count begins anew
    child.process.wait(5)
    supervisor.look()
    assert child.process.wait(5) == -9


def test_a_database_that_does_not_come_back_is_tried_again_after_longer_and_longer(tmp_path, monkeypatch):
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    now, tries = [1000.0], []
    monkeypatch.setattr(running.time, "monotonic", lambda: now[0])

    class Full:
        process = subprocess.Popen(["false"])

        def serve(self):
            tries.append(now[0])
            raise running.Refused("No space left on device.")

    Full.process.wait(5)
    supervisor = running.Supervisor([], running.Record("start"), Full())
    for _ in range(700):
        now[0] += 0.2
        supervisor.look()
    assert [round(after - before) for before, after in pairwise(tries)] == [2, 4, 8, 16, 32, 60]


@pytest.fixture
def unmade(tmp_path, monkeypatch):
    """A cluster whose place is there but in which nothing runs."""
    monkeypatch.setattr(local, "LOCAL", tmp_path)
    made = cluster.Cluster.__new__(cluster.Cluster)
    made.data = tmp_path / "postgres"
    made.data.mkdir()
    return made


def test_a_cluster_that_was_never_finished_is_put_aside_and_one_with_data_is_not(unmade):
    (unmade.data / "PG_VERSION").write_text("15\n")
    making = unmade.data.with_name("postgres-making")
    making.mkdir()
    unmade._put_aside_unfinished()
    assert not making.exists()
    assert not unmade.data.exists()
    aside = next(unmade.data.parent.glob("postgres-unfinished-*"))
    assert (aside / "PG_VERSION").exists()
    (unmade.data / "global").mkdir(parents=True)
    (unmade.data / "global" / "pg_control").write_bytes(b"data")
    unmade._put_aside_unfinished()
    assert (unmade.data / "global" / "pg_control").read_bytes() == b"data"


def test_a_servers_number_that_something_else_has_meanwhile_is_forgotten(unmade):
    other = subprocess.Popen(["sleep", "60"])
    try:
        (unmade.data / "postmaster.pid").write_text(f"{other.pid}\n{unmade.data}\n")
        unmade.stop_left_over()
        assert not (unmade.data / "postmaster.pid").exists()
        assert other.poll() is None
    finally:
        other.kill()
        other.wait()

"""The launcher's own pieces; what it does as a whole is what .ci/run does."""

import os
import socket
import subprocess
import sys
import time

import pytest

from bench.ports import free_port
from launcher import install, ports, processes, say
from launcher.places import ROOT


def run(*words, **environment):
    return subprocess.run(
        [str(ROOT / "lumtar"), *words], capture_output=True, text=True, env={**os.environ, **environment}
    )


def test_help_and_unknown_commands():
    assert "./lumtar demo" in run("help").stdout
    wrong = run("dance")
    assert wrong.returncode == 1
    assert "there is no command 'dance'" in wrong.stderr and "./lumtar help" in wrong.stderr
    assert "Traceback" not in wrong.stderr
    assert "does not know --quickly" in run("demo", "--quickly").stderr
    assert "which is not a port" in run("help", LUMTAR_WEB_PORT="many").stderr


def test_a_taken_port_is_reported_with_who_holds_it():
    port = free_port()
    with socket.socket() as holder:
        holder.bind(("127.0.0.1", port))
        holder.listen()
        with pytest.raises(say.Failure, match=rf"port {port} on 127.0.0.1 is taken by process {os.getpid()}") as met:
            ports.require_free("127.0.0.1", port, "LUMTAR_WEB_PORT")
        assert "LUMTAR_WEB_PORT=" in met.value.then
    ports.require_free("127.0.0.1", port, "LUMTAR_WEB_PORT")


def test_a_failed_step_says_which_why_and_what_to_do(capsys):
    with pytest.raises(say.Failure) as met, say.step("doing it"):
        say.run([sys.executable, "-c", "print('the reason'); raise SystemExit(3)"], then="Try harder.")
    say.complain(met.value)
    told = capsys.readouterr().err
    assert "doing it" in told and "ended with 3" in told and "the reason" in told and "Try harder." in told
    with pytest.raises(say.Failure, match="is not there"):
        say.run(["no-such-program-at-all"])


def test_a_process_that_ends_is_started_again(tmp_path, monkeypatch, capsys):
    monkeypatch.setattr(processes, "LOGS", tmp_path)
    monkeypatch.setattr(processes, "LONGEST_PAUSE", 0.0)
    mark = tmp_path / "runs"
    script = f"open({str(mark)!r}, 'a').write('x')"
    process = processes.Process("short", [sys.executable, "-c", script], dict(os.environ))
    process.start()
    until = time.monotonic() + 60
    while time.monotonic() < until and not (mark.exists() and len(mark.read_text()) >= 3):
        process.tend()
        time.sleep(0.05)
    assert len(mark.read_text()) >= 3
    assert "started again" in capsys.readouterr().out


def test_stamps_follow_contents(tmp_path):
    file = ROOT / "requirements" / "run.in"
    stamp = tmp_path / "stamp"
    value = install.digest([file])
    assert not install.is_stamped(stamp, value)
    stamp.write_text(value)
    assert install.is_stamped(stamp, install.digest([file]))
    assert not install.is_stamped(stamp, install.digest([file, ROOT / "requirements" / "dev.in"]))

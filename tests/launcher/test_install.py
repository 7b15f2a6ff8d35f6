"""Installing what is missing: what is asked of the machine, and what is said when it cannot be had."""

import subprocess
from pathlib import Path

import pytest

from launcher import install, postgres, say


@pytest.fixture
def ran(monkeypatch):
    """What would have been run, in its order."""
    commands = []
    monkeypatch.setattr(install, "run", lambda command, *args, **more: commands.append([str(c) for c in command]) or "")
    monkeypatch.setattr(subprocess, "run", lambda command, **more: commands.append([str(c) for c in command]))
    return commands


def test_without_apt_get_it_says_what_to_install_by_hand(monkeypatch):
    monkeypatch.setattr(install.shutil, "which", lambda name: None)
    with pytest.raises(say.Failure) as met:
        install.debian(["chromium", "snmpd"], "the tests")
    assert "installing chromium, snmpd (the tests)" in met.value.why and "no apt-get" in met.value.why
    assert "by hand" in met.value.then


def test_without_root_and_sudo_it_says_what_root_should_do(monkeypatch):
    monkeypatch.setattr(install.os, "geteuid", lambda: 1000)
    monkeypatch.setattr(install.shutil, "which", lambda name: None if name == "sudo" else f"/usr/bin/{name}")
    with pytest.raises(say.Failure) as met:
        install.debian(["postgresql"], "the database")
    assert "needs root, and sudo is not there" in met.value.why
    assert met.value.then == "As root: apt-get install postgresql"


def test_services_of_debian_packages_are_not_started(monkeypatch, ran, tmp_path):
    monkeypatch.setattr(install.os, "geteuid", lambda: 1000)
    monkeypatch.setattr(install.shutil, "which", lambda name: f"/usr/bin/{name}")
    monkeypatch.setattr(install, "NO_SERVICES", tmp_path / "policy-rc.d")
    install.debian(["postgresql"], "the database")
    assert all(command[0] == "sudo" for command in ran)
    assert ran[0][:2] == ["sudo", "tee"] and ran[-1][:3] == ["sudo", "rm", "-f"], (
        "policy-rc.d comes first and goes last"
    )
    assert any("install" in command and "postgresql" in command for command in ran)


def test_a_policy_that_was_there_before_stays(monkeypatch, ran, tmp_path):
    policy = tmp_path / "policy-rc.d"
    policy.write_text("somebody else's")
    monkeypatch.setattr(install.os, "geteuid", lambda: 0)
    monkeypatch.setattr(install.shutil, "which", lambda name: f"/usr/bin/{name}")
    monkeypatch.setattr(install, "NO_SERVICES", policy)
    install.debian(["postgresql"], "the database")
    assert policy.read_text() == "somebody else's"
    assert not any("tee" in command or "rm" in command for command in ran)


def test_only_missing_test_tools_are_installed(monkeypatch):
    asked = []
    monkeypatch.setattr(install, "debian", lambda packages, purpose: asked.append(list(packages)))
    monkeypatch.setattr(Path, "exists", lambda self: self.name != "chromium")
    install.ensure_test_tools()
    assert asked == [["chromium"]]


def test_without_graphviz_it_is_installed_or_the_map_stands_in_rows(monkeypatch, capsys):
    monkeypatch.setattr(install.shutil, "which", lambda name: None)
    install.ensure_graphviz()
    assert "no apt-get" in (said := capsys.readouterr().out) and "the map will stand in rows" in said
    asked = []
    monkeypatch.setattr(install, "debian", lambda packages, purpose: asked.append(list(packages)))
    install.ensure_graphviz()
    monkeypatch.setattr(install.shutil, "which", lambda name: f"/usr/bin/{name}")
    install.ensure_graphviz()
    assert asked == [["graphviz"]]


@pytest.mark.parametrize(("version", "words"), [("11.4.2", ["npm"]), ("10.9.0", ["npx", "--yes", "npm@11.19.1"])])
def test_an_old_npm_is_not_used(monkeypatch, version, words):
    monkeypatch.setattr(install.shutil, "which", lambda name: f"/usr/bin/{name}")
    monkeypatch.setattr(install, "run", lambda command, *args, **more: f"npm warn something\n{version}\n")
    assert install.npm() == words


def test_without_npm_it_says_so(monkeypatch):
    monkeypatch.setattr(install.shutil, "which", lambda name: None)
    with pytest.raises(say.Failure, match="npm is not there") as met:
        install.npm()
    assert "Node.js 20" in met.value.then


def test_somebody_elses_database_is_used_and_never_deleted(monkeypatch):
    url = "postgresql://somebody@127.0.0.1:5432/theirs"
    monkeypatch.setenv("LUMTAR_DATABASE_URL", url)
    assert postgres.start() == (url, False)
    postgres.stop()
    with pytest.raises(say.Failure, match="is not Lumtar's own, so it is not deleted"):
        postgres.drop()


def test_the_newest_postgresql_is_taken_and_a_missing_one_said(monkeypatch, tmp_path):
    monkeypatch.setattr(postgres, "POSTGRES", str(tmp_path))
    with pytest.raises(say.Failure, match="PostgreSQL's initdb is not installed"):
        postgres.program("initdb")
    for version in ("9.6", "15", "16"):
        program = tmp_path / version / "bin" / "initdb"
        program.parent.mkdir(parents=True)
        program.touch()
    assert postgres.program("initdb") == tmp_path / "16" / "bin" / "initdb"


def test_as_root_the_cluster_belongs_to_postgres(monkeypatch):
    monkeypatch.setattr(postgres.os, "geteuid", lambda: 0)
    assert postgres.as_owner(["initdb"]) == ["runuser", "-u", "postgres", "--", "initdb"]
    monkeypatch.setattr(postgres.os, "geteuid", lambda: 1000)
    assert postgres.as_owner(["initdb"]) == ["initdb"]

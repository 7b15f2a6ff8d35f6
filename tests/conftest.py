"""Fixtures: agents that are ours and one that is not, on loopback addresses of this test process alone."""

import itertools
import os
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from bench.ports import free_port

if "LUMTAR_KEY_FILE" not in os.environ:
    os.environ.setdefault("LUMTAR_KEY", "a key for tests only")
# How long something takes is measured by the benchmarks; a test must not fail on a slow machine.
settings.register_profile("lumtar", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("lumtar")
WORKER = int("".join(filter(str.isdigit, os.environ.get("PYTEST_XDIST_WORKER", "0"))) or 0)
_hosts = itertools.count(1)


@pytest.fixture(scope="session", autouse=True)
def tools_that_share_no_files(tmp_path_factory):
    """The tools of net-snmp keep a file between their runs; those of two workers would read it half written."""
    kept = tmp_path_factory.mktemp("snmp-tools")
    # Whichever tool runs first would tell that it made this one.
    (kept / "cert_indexes").mkdir()
    os.environ["SNMP_PERSISTENT_DIR"] = str(kept)


EMPTY = """DO $$ DECLARE
    filled regclass;
    has_rows boolean;
BEGIN
    SET LOCAL session_replication_role = replica;
    FOR filled IN SELECT oid FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace
        AND relname NOT IN ('django_migrations', 'django_content_type', 'auth_permission')
    LOOP
        EXECUTE format('LOCK TABLE %s', filled);
        EXECUTE format('SELECT EXISTS (SELECT FROM %s)', filled) INTO has_rows;
        CONTINUE WHEN NOT has_rows;
        IF pg_relation_size(filled) < 1000000 THEN
            EXECUTE format('DELETE FROM %s', filled);
        ELSE
            EXECUTE format('TRUNCATE %s CASCADE', filled);
        END IF;
    END LOOP;
END $$"""
"""TRUNCATE makes new files for each table and index. Of all tables after each of some hundred tests these are half a million, for which
the database waits minutes in the end; most tests leave a few rows in a few tables."""


@pytest.fixture(scope="session", autouse=True)
def tables_emptied_by_what_they_hold():
    """After a test with transactions of its own only tables that hold something are emptied; those that are large by TRUNCATE."""
    from django.db import connection
    from django.test import TransactionTestCase

    def empty(case):
        with connection.cursor() as cursor:
            cursor.execute(EMPTY)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(TransactionTestCase, "_fixture_teardown", empty)
        yield


@pytest.fixture(autouse=True)
def migrated_rules(request):
    """The rules of a new database: a test with transactions of its own, that ran before, emptied all tables."""
    marker = request.node.get_closest_marker("django_db")
    if marker and not marker.kwargs.get("transaction"):
        request.getfixturevalue("db")
        # Django is not set up yet when this file is read.
        from tests.alarms import first_rules

        first_rules()


@pytest.fixture
def loopback():
    """Loopback addresses that no other test uses."""
    return (f"127.{100 + WORKER}.{number // 250}.{1 + number % 250}" for number in _hosts)


SNMPD = """
agentaddress udp:127.0.0.1:{port},udp6:[::1]:{port}
rocommunity correct-word 127.0.0.1
rocommunity6 correct-word ::1
rwcommunity write-word 127.0.0.1
createUser hugo SHA-256 "authenticate-me" AES "keep-it-private"
rwuser hugo priv
createUser anna SHA "authenticate-me" AES "keep-it-private"
createUser bert SHA-256 "authenticate-me" AES "keep-it-private"
createUser cleo MD5 "authenticate-me" DES "keep-it-private"
createUser dora SHA "authenticate-me" AES-192 "keep-it-private"
createUser emil SHA-224 "authenticate-me" AES-256 "keep-it-private"
createUser fern SHA-512 "authenticate-me"
createUser gwen
rouser anna priv
rouser bert priv
rouser cleo priv
rouser dora priv
rouser emil priv
rouser fern auth
rouser gwen noauth
sysLocation Depot, rack 4
"""


LONGEST = {
    "test_faults.py", "test_start.py", "test_accessible.py", "test_history.py", "test_refreshing.py", "test_rehearsals.py",
    "test_setup.py", "test_collector.py",
}  # fmt: skip


def pytest_collection_modifyitems(items):
    """What takes minutes begins first: else one worker works at the end, and all others wait for it."""
    items.sort(key=lambda item: Path(item.fspath).name not in LONGEST)


def cut_everybody_else():
    """End every connection to this database but this one."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )


class Snmpd:
    """Debian's snmpd with a configuration of its own."""

    def __init__(self, folder):
        self.port = free_port()
        (folder / "snmpd.conf").write_text(SNMPD.format(port=self.port))
        environment = {**os.environ, "SNMP_PERSISTENT_DIR": str(folder), "SNMPCONFPATH": str(folder)}
        self.process = subprocess.Popen(
            [
                "/usr/sbin/snmpd",
                "-I",
                "-smux",
                "-f",
                "-LF",
                "6",
                str(folder / "log"),
                "-C",
                "-c",
                str(folder / "snmpd.conf"),
            ],
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        command = ["snmpget", "-v2c", "-ccorrect-word", "-t1", "-r0", f"127.0.0.1:{self.port}", "1.3.6.1.2.1.1.3.0"]
        for _ in range(50):
            if subprocess.run(command, capture_output=True).returncode == 0:
                return
            time.sleep(0.1)
        raise RuntimeError((folder / "log").read_text())

    def stop(self):
        self.process.terminate()
        self.process.wait(5)


@pytest.fixture(scope="session")
def snmpd(tmp_path_factory):
    """An agent that is not ours."""
    running = Snmpd(tmp_path_factory.mktemp("snmpd"))
    yield running
    running.stop()


@pytest.fixture(scope="session")
def let_go(django_db_setup, django_db_blocker):
    """Ends connections that threads have left open, so that the test database can be dropped."""
    yield
    with django_db_blocker.unblock():
        cut_everybody_else()


@pytest.fixture
def settled(transactional_db):
    """What the web server is still answering comes to its end before the tables are emptied under it."""
    yield
    from django.db import connection

    with connection.cursor() as cursor:
        # Should the two meet all the same, it is the server that has to give way.
        cursor.execute(
            "SELECT set_config('deadlock_timeout', '1min', false) FROM pg_roles WHERE rolname = current_user AND rolsuper"
        )
    quiet, deadline = 0, time.monotonic() + 20
    while quiet < 3 and time.monotonic() < deadline:
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()"
                " AND pid <> pg_backend_pid() AND backend_type = 'client backend' AND state <> 'idle'"
            )
            quiet = 0 if cursor.fetchone()[0] else quiet + 1
        time.sleep(0.05)


def _answers(port, process):
    """Whether a web server comes up; false as soon as it has ended."""
    for _ in range(300):
        if process.poll() is not None:
            return False
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=1)
            return True
        except OSError:
            time.sleep(0.1)
    process.terminate()
    return False


@pytest.fixture(scope="session")
def address(let_go):
    """The web server on this test process's database."""
    from django.conf import settings

    wanted = settings.DATABASES["default"]
    url = f"postgresql://{wanted['USER']}:{wanted['PASSWORD']}@{wanted['HOST']}:{wanted['PORT']}/{wanted['NAME']}"
    environment = {**os.environ, "LUMTAR_DATABASE_URL": url}
    # A port that is free can be taken by somebody's connection before the server has it.
    for _ in range(5):
        port = free_port()
        words = ["uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "warning"]
        process = subprocess.Popen([sys.executable, "-m", *words, "--timeout-graceful-shutdown", "1"], env=environment)
        if _answers(port, process):
            break
    else:
        raise AssertionError("the web server did not start")
    yield f"http://127.0.0.1:{port}"
    process.terminate()
    process.wait(10)

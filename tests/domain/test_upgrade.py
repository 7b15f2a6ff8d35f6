"""From the database of the version before to this one: nothing that it held is lost, and everybody may what they could."""

import gzip
import os
import subprocess
import sys
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
import pytest
from django.conf import settings

from launcher.postgres import program

BEFORE = Path(__file__).resolve().parents[1] / "data" / "database-0.1.sql.gz"
"""Made by that version: an administrator with a token, two devices with readings of an hour, alarms."""
TOKEN = "lumtar_FzrhjmwR7Vo808-fmRHetzcODl942g_ynA4VsNu1QZ4"
LOOK = """
import django; django.setup()
from lumtar.domain.accounts.services import person_of_token
from lumtar.domain.inventory.credentials import opened
from lumtar.domain.inventory.models import Credential
from lumtar.domain.selfwatch.health import health
person = person_of_token(TOKEN)
print(person.user.username, person.role, person.is_limited, opened(Credential.objects.get()).name, health().words)
"""


@pytest.fixture
def before(django_db_setup):
    """The address of a database as it was."""
    url = urlsplit(os.environ["LUMTAR_DATABASE_URL"])
    name = settings.DATABASES["default"]["NAME"] + "_before"
    with psycopg.connect(url.geturl(), autocommit=True) as admin:
        admin.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
        admin.execute(f'CREATE DATABASE "{name}"')
        address = url._replace(path=f"/{name}").geturl()
        dump = gzip.decompress(BEFORE.read_bytes())
        words = [str(program("psql")), "-X", "-q", "-v", "ON_ERROR_STOP=1", "-d", address]
        subprocess.run(words, input=dump, check=True, stdout=subprocess.DEVNULL)
        yield address
        admin.execute(f'DROP DATABASE "{name}" WITH (FORCE)')


def counted(asking):
    tables = (
        "readings_reading",
        "readings_fiveminutes",
        "inventory_device",
        "inventory_interface",
        "alarms_alarm",
        "logbook_entry",
    )
    return {table: asking.execute(f"SELECT count(*) FROM {table}").fetchone()[0] for table in tables}


def test_the_database_of_the_version_before_is_brought_up_to_date(before):
    env = {**os.environ, "LUMTAR_DATABASE_URL": before, "LUMTAR_KEY": "a key for tests only"}
    env.pop("LUMTAR_KEY_FILE", None)
    with psycopg.connect(before, autocommit=True) as asking:
        was = counted(asking)
        assert was["readings_reading"] > 200 and was["inventory_device"] == 2
        for _ in range(2):
            subprocess.run([sys.executable, "-m", "django", "migrate", "--no-input", "-v", "0"], env=env, check=True)
        assert counted(asking) == was
        kinds = dict(asking.execute("SELECT name, kind FROM operation_process").fetchall())
        assert kinds == {"collector": "collector", "worker": "worker"}
        (policies,) = asking.execute("SELECT count(*) FROM pg_policies WHERE policyname = 'seen'").fetchone()
        assert policies > 25
        rules = asking.execute(
            "SELECT measure, levels, times, of, statistic, window_s FROM alarms_rule ORDER BY id"
        ).fetchall()
        assert [row[0] for row in rules] == ["load", "unanswered", "lumtar"]
        level = {"severity": 4, "limit": 90.0, "clear": 80.0}
        assert rules[0][1:] == ([level], 3, 3, "value", 0)
        blank = "SELECT count(*) FROM alarms_alarm WHERE label = '' OR resource_kind = ''"
        assert asking.execute(blank).fetchone() == (0,), "alarms say what they are about"
        lost = "SELECT count(*) FROM alarms_alarmchange WHERE facts->>'kind' IS NULL"
        assert asking.execute(lost).fetchone() == (0,)
    told = subprocess.run(
        [sys.executable, "-c", LOOK.replace("TOKEN)", f"{TOKEN!r})")],
        env=env,
        check=True,
        capture_output=True,
        text=True,
    )
    assert told.stdout.startswith("first administrator False word the collector is not running since"), told.stdout

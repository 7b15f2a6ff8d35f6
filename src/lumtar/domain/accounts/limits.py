"""What people see who are limited to sites and groups: the database itself shows them nothing else.

Whatever asks on behalf of such a person does so as the role ``lumtar_limited``, which owns nothing. It may read the tables
named here and no others, and of these only the rows for which a policy holds (row-level security). A question that somebody
writes later is limited without knowing of it; a table that somebody adds later is closed until it is named here.

Everybody else asks as the owner of the tables, for whom no policy is looked at.
"""

import hashlib
from collections.abc import Sequence
from typing import Any

import structlog
from django.db import connection, transaction
from django.db.utils import ProgrammingError

from lumtar.core.access import LIMITED_ROLE
from lumtar.domain.inventory.groups import in_group

log = structlog.get_logger()
ROLE = LIMITED_ROLE


def _numbers(name: str) -> str:
    """The numbers of a setting as a list that is worked out once a query."""
    return f"(SELECT unnest(string_to_array(nullif(current_setting('lumtar.{name}', true), ''), ',')::bigint[]))"


SITES, GROUPS, PORTS, DEVICES = (_numbers(name) for name in ("sites", "groups", "ports", "devices"))
OF_PORT = "interface_id IN (SELECT id FROM inventory_interface)"
OF_DEVICE = "device_id IN (SELECT id FROM inventory_device)"
OF_PATH = "path_id IN (SELECT id FROM paths_path)"
OF_COMPONENT = "component_id IN (SELECT id FROM inventory_component)"
ABOUT = f"({OF_DEVICE} AND (interface_id IS NULL OR {OF_PORT}))"
"""Of a device, and if it is about a port, of one that may be seen."""
WHOLE_DEVICE = f"SELECT id FROM inventory_device WHERE site_id IN {SITES} OR id IN {DEVICES}"

POLICIES: dict[str, str] = {
    "inventory_device": f"(site_id IN {SITES} OR id IN {DEVICES}"
    f" OR id IN (SELECT unnest(string_to_array(nullif(current_setting('lumtar.port_devices', true), ''), ',')::bigint[])))",
    "inventory_interface": f"(id IN {PORTS} OR device_id IN ({WHOLE_DEVICE}))",
    "inventory_component": f"device_id IN ({WHOLE_DEVICE})",
    "inventory_site": f"(id IN {SITES} OR id IN (SELECT site_id FROM inventory_device))",
    "inventory_group": f"id IN {GROUPS}",
    "inventory_group_ports": OF_PORT,
    "inventory_device_groups": OF_DEVICE,
    "inventory_devicestate": OF_DEVICE,
    "inventory_pollrequest": OF_DEVICE,
    "inventory_interfacespeed": OF_PORT,
    "inventory_interfaceduplex": OF_PORT,
    "readings_newest": OF_PORT,
    "readings_reading": OF_PORT,
    "readings_fiveminutes": OF_PORT,
    "readings_hour": OF_PORT,
    "readings_day": OF_PORT,
    "readings_etherneterrors": OF_PORT,
    "readings_livewish": OF_PORT,
    "readings_livereading": OF_PORT,
    "readings_livestate": OF_DEVICE,
    "readings_componentreading": OF_COMPONENT,
    "readings_componenthour": OF_COMPONENT,
    "readings_devicereading": OF_DEVICE,
    "readings_devicehour": OF_DEVICE,
    "readings_gap": f"(device_id IS NULL OR {OF_DEVICE})",
    "alarms_alarm": ABOUT,
    "alarms_alarmchange": "alarm_id IN (SELECT id FROM alarms_alarm)",
    "alarms_alarmaction": "alarm_id IN (SELECT id FROM alarms_alarm)",
    "alarms_notification": "change_id IN (SELECT id FROM alarms_alarmchange)",
    "alarms_consequence": "alarm_id IN (SELECT id FROM alarms_alarm)",
    "alarms_overruled": "alarm_id IN (SELECT id FROM alarms_alarm)",
    "inventory_device_hangs_on": "from_device_id IN (SELECT id FROM inventory_device)",
    "alarms_lastgasp": OF_DEVICE,
    "alarms_call": "alarm_id IN (SELECT id FROM alarms_alarm)",
    "logbook_entry": ABOUT,
    "topology_neighbour": ABOUT,
    "topology_neighbourlook": OF_DEVICE,
    "topology_mapbackground": "(map IN ('sites', 'devices') OR map IN (SELECT 'site-' || id FROM inventory_site))",
    "topology_bridge": OF_DEVICE,
    "topology_portlayer2": OF_PORT,
    "topology_station": ABOUT,
    "topology_binding": ABOUT,
    "topology_ownaddress": ABOUT,
    "flows_exporter": OF_DEVICE,
    "flows_minute": OF_PORT,
    "flows_hour": OF_PORT,
    "flows_networkhour": "false",
    "flows_responseminute": OF_DEVICE,
    "flows_responsehour": OF_DEVICE,
    "flows_record": OF_DEVICE,
    "flows_fanout": OF_PORT,
    "flows_stranger": OF_PORT,
    "flows_recording": f"(device_id IS NULL OR {OF_DEVICE})",
    "flows_recordlook": f"(device_id IS NULL OR {OF_DEVICE})",
    "paths_judged": OF_PATH,
    "paths_tracedroute": OF_PATH,
    "paths_move": "site_id IN (SELECT id FROM inventory_site)",
    "paths_transport": "site_id IN (SELECT id FROM inventory_site)",
    "paths_path": "(from_site_id IN (SELECT id FROM inventory_site) OR to_site_id IN (SELECT id FROM inventory_site))",
    "paths_minute": OF_PATH,
    "paths_hour": OF_PATH,
    "paths_fiveminutes": OF_PATH,
    "paths_day": OF_PATH,
    "topology_route": OF_DEVICE,
    "controllers_controlleritem": OF_DEVICE,
    "topology_accesspoint": "controller_id IN (SELECT id FROM inventory_device)",
    "topology_wirelessclient": OF_DEVICE,
    "topology_expectedlink": OF_PORT,
    "topology_inferredlink": "(a_device_id IN (SELECT id FROM inventory_device) AND b_device_id IN (SELECT id FROM inventory_device))",
    "topology_manuallink": "(a_device_id IN (SELECT id FROM inventory_device) AND b_device_id IN (SELECT id FROM inventory_device))",
}
"""Tables of which a part is seen: for which rows."""
OPEN = (
    "accounts_account", "accounts_account_groups", "accounts_account_sites", "accounts_apitoken", "accounts_signedin",
    "alarms_message", "alarms_maintenance", "alarms_rule", "alarms_ruleexception", "audit_auditchange", "audit_auditentry",
    "auth_group", "auth_permission", "auth_user", "auth_user_groups", "auth_user_user_permissions", "axes_accessattempt",
    "axes_accessfailurelog", "axes_accesslog", "calling_callplan", "calling_contact", "calling_member", "calling_planstep",
    "calling_planstep_contacts", "calling_planstep_teams", "calling_substitution", "calling_team", "django_content_type",
    "django_session", "inventory_group_parts", "inventory_labelrule", "inventory_labelrun", "inventory_ownfield", "inventory_profile", "inventory_writing",
    "flows_addresslist", "flows_addressname", "flows_firstseen", "flows_ownapplication", "flows_prefixtable", "flows_declaredfield", "flows_watchedtraffic", "paths_serviceclass", "controllers_controllerprofile", "operation_duesum", "operation_jobrun", "operation_process", "readings_due", "readings_retention", "readings_rolledup",
    "topology_mapposition",
)  # fmt: skip
"""Tables that hold nothing of the network, or only what is the same for everybody. Who may ask for them is the endpoint's matter."""
BUT_SECRETS = {
    "inventory_credential": (
        "id",
        "name",
        "kind",
        "place",
        "ranges",
        "is_for_writing",
        "edition",
        "changed_at",
        "changed_by",
    ),
    "controllers_controller": ("id", "name", "enabled", "asked_at", "answered_at", "problem"),
    "calling_address": ("id", "contact_id", "place", "channel", "shown", "enabled"),
}
"""Tables that hold a secret: the columns that are read beside it. They are not written."""


def _statements() -> list[str]:
    statements = [
        f"""DO $$ BEGIN
            IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = '{ROLE}') THEN CREATE ROLE {ROLE} NOLOGIN NOINHERIT; END IF;
        END $$""",
        f"DO $$ BEGIN EXECUTE format('GRANT {ROLE} TO %I', current_user); END $$",
        f"GRANT USAGE ON SCHEMA public TO {ROLE}",
        f"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO {ROLE}",
    ]
    for table, shown in POLICIES.items():
        statements += [
            f"ALTER TABLE {table} ENABLE ROW LEVEL SECURITY",
            f"DROP POLICY IF EXISTS seen ON {table}",
            f"CREATE POLICY seen ON {table} USING ({shown})",
        ]
    statements += [f"GRANT SELECT, INSERT, UPDATE, DELETE ON {table} TO {ROLE}" for table in (*POLICIES, *OPEN)]
    for table, columns in BUT_SECRETS.items():
        statements += [
            f"REVOKE ALL ON {table} FROM {ROLE}",
            f"GRANT SELECT ({', '.join(columns)}) ON {table} TO {ROLE}",
        ]
    statements += [
        f"GRANT SELECT, INSERT, UPDATE ON procrastinate_jobs, procrastinate_events TO {ROLE}",
        f"GRANT SELECT ON procrastinate_workers TO {ROLE}",
    ]
    return statements


def install(**_: Any) -> None:
    """Bring the database to what is said here, if it is not yet; called after every migration, and so after every restore."""
    wanted = hashlib.sha256("\n".join(_statements()).encode()).hexdigest()[:32]
    with connection.cursor() as cursor:
        tables = [*POLICIES, *OPEN, *BUT_SECRETS]
        cursor.execute("SELECT count(to_regclass(name)) FROM unnest(%s::text[]) name", [tables])
        if cursor.fetchone()[0] < len(tables):
            # Somebody migrates to a time before all of them were there.
            return
        cursor.execute(
            "SELECT obj_description('accounts_account'::regclass, 'pg_class'),"
            " EXISTS (SELECT FROM pg_roles WHERE rolname = %s)"
            " AND (SELECT bool_or(grantee = %s) FROM information_schema.role_table_grants WHERE table_name = 'accounts_account')",
            [ROLE, ROLE],
        )
        known, granted = cursor.fetchone()
        if known == wanted and granted:
            return
    try:
        with transaction.atomic(), connection.cursor() as cursor:
            for statement in _statements():
                cursor.execute(statement)
            cursor.execute(f"COMMENT ON TABLE accounts_account IS '{wanted}'")
    except ProgrammingError as error:
        # Whoever owns a database elsewhere may not be allowed to make roles. Nobody can be limited then, and signing in says so.
        log.warning("people cannot be limited to sites: the database's user may not make roles", error=str(error))


def is_installed() -> bool:
    """Whether the database can show somebody a part of the network alone."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = %s)", [ROLE])
        return bool(cursor.fetchone()[0])


def settings_of(sites: Sequence[int], groups: Sequence[int]) -> dict[str, str]:
    """What the policies look at, for somebody who is limited to these. Groups are looked up as they are now."""
    ports: set[int] = set()
    through: set[int] = set()
    devices: set[int] = set()
    with connection.cursor() as cursor:
        for group in groups:
            values: dict[str, Any] = {}
            cursor.execute(in_group(group, values), values)
            for port, device in cursor.fetchall():
                ports.add(int(port))
                through.add(int(device))
        if groups:
            cursor.execute("SELECT device_id FROM inventory_device_groups WHERE group_id = ANY(%s)", [list(groups)])
            devices = {int(row[0]) for row in cursor.fetchall()}
    lists = {"sites": sites, "groups": groups, "ports": ports, "port_devices": through, "devices": devices}
    return {f"lumtar.{name}": ",".join(map(str, sorted(numbers))) for name, numbers in lists.items()}

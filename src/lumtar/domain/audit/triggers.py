"""What is written down when somebody changes the set-up: the database itself does it, whoever changes a row and however.

A row that is changed while nobody acts (by the collector, by a job) leaves no trace here; the logbook has that.
"""

import hashlib
from dataclasses import dataclass
from typing import Any

from django.db import connection, transaction

OF_EDITING = ("edition", "changed_at", "changed_by")
OF_DESCRIBING = (
    "sys_name", "sys_descr", "sys_object_id", "location", "contact", "maker", "model", "serial", "software", "engine_id",
    "base_mac", "profile_by",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Watched:
    """What of a table is written down: only some columns, or all but some; of secret ones only that they changed."""

    only: tuple[str, ...] = ()
    but: tuple[str, ...] = OF_EDITING
    secret: tuple[str, ...] = ()
    says: str = ""


TABLES: dict[str, Watched] = {
    "auth_user": Watched(only=("username", "email", "is_active", "password"), secret=("password",), says="person"),
    "accounts_account": Watched(says="rights of a person"),
    "accounts_account_sites": Watched(says="limit of a person to a site"),
    "accounts_account_groups": Watched(says="limit of a person to a group"),
    "accounts_apitoken": Watched(but=("used_at", "used_from"), secret=("digest",), says="token"),
    "inventory_site": Watched(says="site"),
    "inventory_credential": Watched(but=OF_EDITING, secret=("sealed",), says="credential"),
    "inventory_writing": Watched(only=("is_allowed",), says="writing to devices"),
    "inventory_credential_sites": Watched(says="site of a credential"),
    "inventory_group": Watched(says="group"),
    "inventory_group_ports": Watched(says="port of a group"),
    "inventory_group_parts": Watched(says="group in a group"),
    "inventory_device_groups": Watched(says="group of a device"),
    "inventory_device_hangs_on": Watched(says="device that another one hangs on"),
    "inventory_ownfield": Watched(says="own field"),
    "inventory_profile": Watched(says="profile"),
    "flows_exporter": Watched(only=("usual_sampling",), says="exporter"),
    "flows_addresslist": Watched(says="known addresses"),
    "flows_stranger": Watched(only=("accepted_at", "accepted_by"), says="stranger"),
    "flows_ownapplication": Watched(says="application"),
    "flows_declaredfield": Watched(says="field of flow records"),
    "flows_prefixtable": Watched(but=("text",), says="table of prefixes"),
    "flows_watchedtraffic": Watched(says="watched traffic"),
    "flows_capture": Watched(only=("collector", "interface", "filter", "seconds", "is_stopped"), says="capture"),
    "paths_path": Watched(but=("problem", "told_number"), says="path"),
    "paths_serviceclass": Watched(says="service class"),
    "paths_transport": Watched(says="transport"),
    "controllers_controllerprofile": Watched(says="profile of controllers"),
    "controllers_controller": Watched(
        but=("asked_at", "answered_at", "problem", "complaints"), secret=("sealed",), says="controller"
    ),
    "flows_recording": Watched(says="recording of flow records"),
    "inventory_device": Watched(but=(*OF_EDITING, *OF_DESCRIBING), says="device"),
    "inventory_interface": Watched(
        only=("own_label", "own_role", "own_tags", "in_override_bps", "out_override_bps"), says="port"
    ),
    "inventory_labelrule": Watched(says="label rule"),
    "topology_manuallink": Watched(says="link by hand"),
    "topology_expectedlink": Watched(but=("frozen_at", "frozen_by"), says="expected neighbour"),
    "topology_mapbackground": Watched(but=("picture", "changed_at", "changed_by"), says="background of a map"),
    "topology_mapposition": Watched(says="place on the map"),
    "alarms_rule": Watched(says="rule"),
    "calling_contact": Watched(says="contact"),
    "calling_address": Watched(secret=("sealed",), says="address of a contact"),
    "calling_team": Watched(says="team"),
    "calling_member": Watched(says="member of a team"),
    "calling_substitution": Watched(says="substitute in a team"),
    "calling_callplan": Watched(says="call plan"),
    "calling_planstep": Watched(says="step of a call plan"),
    "calling_planstep_contacts": Watched(says="contact in a call plan"),
    "calling_planstep_teams": Watched(says="team in a call plan"),
    "calling_destinations": Watched(says="destinations of messages"),
    "alarms_ruleexception": Watched(says="exception from a rule"),
    "alarms_maintenance": Watched(but=(*OF_EDITING, "span_start", "span_end", "is_begun"), says="maintenance"),
    "alarms_maintenance_sites": Watched(says="site of a maintenance"),
    "alarms_maintenance_groups": Watched(says="group of a maintenance"),
    "alarms_maintenance_devices": Watched(says="device of a maintenance"),
    "alarms_maintenance_interfaces": Watched(says="port of a maintenance"),
    "alarms_alarmaction": Watched(says="action on an alarm"),
    "readings_retention": Watched(says="storage"),
    "sweeps_sweep": Watched(says="sweep"),
    "sweeps_admissionrule": Watched(says="admission rule"),
}
"""Every table that people set up."""

FUNCTION = """CREATE OR REPLACE FUNCTION lumtar_audit() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER
SET search_path = public, pg_temp AS $$
DECLARE
    who text := nullif(current_setting('lumtar.by', true), '');
    only_these text[] := string_to_array(nullif(TG_ARGV[0], ''), ',');
    but_these text[] := coalesce(string_to_array(nullif(TG_ARGV[1], ''), ','), '{}');
    secrets text[] := coalesce(string_to_array(nullif(TG_ARGV[2], ''), ','), '{}');
    was jsonb := CASE WHEN TG_OP = 'INSERT' THEN '{}' ELSE to_jsonb(OLD) END;
    now_is jsonb := CASE WHEN TG_OP = 'DELETE' THEN '{}' ELSE to_jsonb(NEW) END;
    whole jsonb := CASE WHEN TG_OP = 'DELETE' THEN to_jsonb(OLD) ELSE to_jsonb(NEW) END;
    before jsonb;
    after jsonb;
BEGIN
    IF who IS NULL THEN RETURN NULL; END IF;
    -- What differs, a secret without its contents: that it changed is all that is told.
    SELECT coalesce(jsonb_object_agg(k, CASE WHEN k = ANY(secrets) THEN '"(secret)"' ELSE was->k END) FILTER (WHERE was ? k), '{}'),
        coalesce(jsonb_object_agg(k, CASE WHEN k = ANY(secrets) THEN '"(another secret)"' ELSE now_is->k END)
            FILTER (WHERE now_is ? k), '{}')
    INTO before, after
    FROM jsonb_object_keys(whole) k
    WHERE was->k IS DISTINCT FROM now_is->k AND k <> 'id' AND NOT k = ANY(but_these)
        AND (only_these IS NULL OR k = ANY(only_these));
    IF TG_OP = 'UPDATE' AND before = '{}' AND after = '{}' THEN RETURN NULL; END IF;
    INSERT INTO audit_auditchange (request, at, by, "table", row, name, kind, before, after)
    VALUES (nullif(current_setting('lumtar.request', true), '')::uuid, clock_timestamp(), left(who, 150), TG_TABLE_NAME,
        coalesce(whole->>'id', ''), left(coalesce(whole->>'name', whole->>'username', whole->>'label', ''), 255), TG_OP, before, after);
    RETURN NULL;
END $$"""


def _statements() -> list[str]:
    statements = [FUNCTION]
    for table, watched in TABLES.items():
        words = ", ".join(f"'{','.join(names)}'" for names in (watched.only, watched.but, watched.secret))
        statements += [
            f"DROP TRIGGER IF EXISTS audited ON {table}",
            f"CREATE TRIGGER audited AFTER INSERT OR UPDATE OR DELETE ON {table}"
            f" FOR EACH ROW EXECUTE FUNCTION lumtar_audit({words})",
        ]
    return statements


def install(**_: Any) -> None:
    """Bring the database to what is said here, if it is not yet; called after every migration."""
    wanted = hashlib.sha256("\n".join(_statements()).encode()).hexdigest()[:32]
    with connection.cursor() as cursor:
        cursor.execute("SELECT count(to_regclass(name)) FROM unnest(%s::text[]) name", [[*TABLES, "audit_auditchange"]])
        if cursor.fetchone()[0] <= len(TABLES):
            # Somebody migrates to a time before all of them were there.
            return
        cursor.execute("SELECT obj_description('audit_auditchange'::regclass, 'pg_class')")
        if cursor.fetchone()[0] == wanted:
            return
        with transaction.atomic():
            for statement in _statements():
                cursor.execute(statement)
            cursor.execute(f"COMMENT ON TABLE audit_auditchange IS '{wanted}'")

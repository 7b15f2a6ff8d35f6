from django.db import migrations

PROFILES = (
    ("Storage switch", "storage switch", 'sys_descr like ("*storage switch*", "*fibre channel*")'),
    (
        "Wireless controller",
        "wireless controller",
        'sys_descr like ("*wireless controller*", "*wireless lan controller*")',
    ),
    ("Access point", "access point", 'sys_descr like ("*access point*", "*wireless ap*")'),
    ("Firewall", "firewall", 'sys_descr like ("*firewall*", "*security gateway*")'),
    ("Router", "router", 'sys_descr like ("*router*", "*gateway*")'),
    ("Switch", "switch", 'sys_descr like "*switch*"'),
    ("Power supply", "power supply", 'sys_descr like ("*power supply*", "ups *", "* ups *", "*uninterruptible*")'),
    ("Server", "server", 'sys_descr like ("*server*", "linux *")'),
)
LABEL_RULES = (
    ("Tunnels", 'type is "tunnel"', "tunnel"),
    ("Aggregates", 'type is "aggregate"', "aggregate"),
    ("Storage ports", 'type is "fibre channel"', "storage"),
    ("Management ports", 'label like ("management*", "mgmt*") or name like ("mgmt*", "oob*")', "management"),
    ("Uplinks", 'label like ("uplink*", "backbone*")', "uplink"),
    ("Wide area", 'label like ("wan*", "transport*", "internet*", "cellular*") or name like "wan*"', "wan"),
    ("Trunks", 'label like ("trunk*", "to *")', "trunk"),
    ("Access ports", 'kind is "switch" and type is "ethernet"', "access"),
)


def create(apps, schema_editor):
    """A new installation knows the usual kinds of devices, and that access ports are not news."""
    profile, rule = apps.get_model("inventory", "Profile"), apps.get_model("inventory", "LabelRule")
    for place, (name, kind, condition) in enumerate(PROFILES):
        profile.objects.get_or_create(name=name, defaults={"kind": kind, "condition": condition, "place": place})
    for place, (name, condition, role) in enumerate(LABEL_RULES):
        rule.objects.get_or_create(name=name, defaults={"condition": condition, "role": role, "place": place})


class Migration(migrations.Migration):
    dependencies = [("inventory", "0005_profiles_and_labels")]
    operations = [migrations.RunPython(create, migrations.RunPython.noop)]

from django.db import migrations, models

MEASURES = {"utilisation": "load", "unreachable": "unanswered", "lumtar": "lumtar"}


def carry_over(apps, schema_editor):
    """Rules become rows of levels, and alarms say what they are about."""
    for rule in apps.get_model("alarms", "Rule").objects.all():
        rule.measure = MEASURES[rule.type]
        limit, clear = (rule.limit_percent, rule.clear_percent) if rule.type == "utilisation" else (0.5, 0.5)
        if rule.type != "lumtar":
            rule.levels = [{"severity": rule.severity, "limit": limit, "clear": clear}]
            rule.times = rule.of = rule.readings
        rule.save()
    statements = (
        """UPDATE alarms_alarm a SET resource_kind = 'lumtar', resource_id = 0, label = 'Lumtar itself' WHERE device_id IS NULL""",
        """UPDATE alarms_alarm a SET resource_kind = 'device', resource_id = d.id, label = d.name, site = coalesce(s.name, '')
            FROM inventory_device d LEFT JOIN inventory_site s ON s.id = d.site_id
            WHERE d.id = a.device_id AND a.interface_id IS NULL""",
        """UPDATE alarms_alarm a SET resource_kind = 'interface', resource_id = i.id, label = d.name || ' ' || i.label,
            site = coalesce(s.name, '') FROM inventory_interface i JOIN inventory_device d ON d.id = i.device_id
            LEFT JOIN inventory_site s ON s.id = d.site_id WHERE i.id = a.interface_id""",
        # One alarm a subject and rule, of whichever kind.
        """UPDATE alarms_alarm SET qualifier = rule_id::text WHERE type = 'unreachable' AND rule_id IS NOT NULL""",
        """UPDATE alarms_alarmchange SET facts = jsonb_build_object('kind', 'said', 'text', text)""",
    )
    for statement in statements:
        schema_editor.execute(statement)


class Migration(migrations.Migration):
    dependencies = [("alarms", "0004_rule_for_lumtar_itself"), ("inventory", "0014_where_credentials_are_sent")]
    operations = [
        migrations.AddField("rule", "measure", models.CharField(max_length=40, default="")),
        migrations.AddField("rule", "statistic", models.CharField(max_length=40, default="value")),
        migrations.AddField("rule", "scope", models.CharField(max_length=1000, blank=True, default="")),
        migrations.AddField("rule", "above", models.BooleanField(default=True)),
        migrations.AddField("rule", "levels", models.JSONField(default=list)),
        migrations.AddField("rule", "hold_s", models.PositiveIntegerField(default=0)),
        migrations.AddField("rule", "times", models.PositiveIntegerField(default=1)),
        migrations.AddField("rule", "of", models.PositiveIntegerField(default=1)),
        migrations.AddField("rule", "revision", models.PositiveIntegerField(default=1)),
        migrations.AddField("rule", "armed", models.PositiveIntegerField(default=1)),
        migrations.AddField("alarm", "resource_kind", models.CharField(max_length=16, default="")),
        migrations.AddField("alarm", "resource_id", models.BigIntegerField(default=0)),
        migrations.AddField("alarm", "label", models.CharField(max_length=300, default="")),
        migrations.AddField("alarm", "site", models.CharField(max_length=120, blank=True, default="")),
        migrations.AddField("alarmchange", "facts", models.JSONField(null=True)),
        migrations.RunPython(carry_over),
    ]

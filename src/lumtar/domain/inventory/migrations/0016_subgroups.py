from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("inventory", "0015_kinds_of_components")]

    operations = [
        # The table keeps its name: policies, triggers and the audit trail know it by that.
        migrations.AlterField(
            "group",
            "parts",
            models.ManyToManyField(
                blank=True, db_table="inventory_group_parts", related_name="wholes", to="inventory.group"
            ),
        ),
        migrations.RenameField("group", "parts", "subgroups"),
        migrations.AlterField(
            "group",
            "subgroups",
            models.ManyToManyField(
                blank=True, db_table="inventory_group_parts", related_name="outer_groups", to="inventory.group"
            ),
        ),
    ]

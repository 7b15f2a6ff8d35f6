from django.db import migrations, models

RECORD = "ALTER TABLE flows_record {} COLUMN server_name {}"


class Migration(migrations.Migration):
    dependencies = [("flows", "0009_network_hours")]

    operations = [
        migrations.RenameModel("ResponseField", "DeclaredField"),
        migrations.AlterField(
            model_name="declaredfield",
            name="part",
            field=models.CharField(
                choices=[
                    ("network", "network"),
                    ("client_side", "client_side"),
                    ("server_side", "server_side"),
                    ("server", "server"),
                    ("responses", "responses"),
                    ("server_name", "server_name"),
                ],
                max_length=12,
            ),
        ),
        migrations.AddField(
            "ownapplication", "server_names", models.TextField(blank=True, default=""), preserve_default=False
        ),
        migrations.SeparateDatabaseAndState(
            [migrations.RunSQL(RECORD.format("ADD", "char(100)"), RECORD.format("DROP", ""))],
            [migrations.AddField("record", "server_name", models.CharField(max_length=100, null=True))],
        ),
    ]

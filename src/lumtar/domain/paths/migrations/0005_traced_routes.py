import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("paths", "0004_moves")]

    operations = [
        migrations.AddField("path", "traces", models.BooleanField(default=False)),
        migrations.CreateModel(
            name="TracedRoute",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("hops", models.JSONField(default=list)),
                ("since", models.DateTimeField()),
                ("seen_at", models.DateTimeField()),
                (
                    "path",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="routes", to="paths.path"
                    ),
                ),
            ],
        ),
    ]

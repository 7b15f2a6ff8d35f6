from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("operation", "0003_errands")]

    operations = [
        migrations.CreateModel(
            name="DueSum",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("what", models.CharField(max_length=40)),
                ("at", models.DateTimeField()),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("what", "at"), name="due_once")]},
        )
    ]

"""The rows are the queue."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("jobs", "0001_initial")]

    operations = [
        migrations.AddField("job", "priority", models.IntegerField(default=0)),
        migrations.AlterField(
            "job",
            "state",
            models.CharField(
                choices=[
                    ("prepared", "being prepared"),
                    ("queued", "waiting"),
                    ("running", "running"),
                    ("finished", "finished"),
                    ("stopped", "stopped"),
                    ("failed", "failed"),
                    ("interrupted", "interrupted"),
                ],
                db_index=True,
                default="prepared",
                max_length=12,
            ),
        ),
        migrations.RunSQL(
            "DROP TABLE IF EXISTS django_tasks_database_dbtaskresult; DROP TABLE IF EXISTS django_tasks_db_dbtaskresult;",
            migrations.RunSQL.noop,
        ),
    ]

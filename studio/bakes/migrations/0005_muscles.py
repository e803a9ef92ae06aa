from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("bakes", "0004_thinned_by_the_skin")]

    operations = [migrations.AddField("bake", "has_muscles", models.BooleanField(default=False))]

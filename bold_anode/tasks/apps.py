from django.apps import AppConfig


class TasksConfig(AppConfig):
    name = "bold_anode.tasks"

    def ready(self) -> None:
        from bold_anode.frame import samples
        from bold_anode.tasks import sample

        samples.register(addressed=sample.addressed)

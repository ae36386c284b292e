from django.apps import AppConfig


class TasksConfig(AppConfig):
    name = "bold_anode.tasks"

from django.apps import AppConfig


class DemoConfig(AppConfig):
    name = "bold_anode.demo"

from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "bold_anode.accounts"

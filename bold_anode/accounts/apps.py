from django.apps import AppConfig


class AccountsConfig(AppConfig):
    name = "bold_anode.accounts"

    def ready(self) -> None:
        from bold_anode.accounts import arriving
        from bold_anode.tasks import kinds

        kinds.register(arriving.IMPORT, arriving.do)

from django.apps import AppConfig


class AmpsConfig(AppConfig):
    name = "bold_anode.amps"

    def ready(self) -> None:
        from bold_anode.amps import sample
        from bold_anode.amps.carrying import VARIANTS
        from bold_anode.frame import carried, samples

        carried.register(VARIANTS)
        samples.register(addressed=sample.addressed)

from django.apps import AppConfig


class TubesConfig(AppConfig):
    name = "bold_anode.tubes"

    def ready(self) -> None:
        from bold_anode.frame import carried, samples
        from bold_anode.tasks import kinds
        from bold_anode.tubes import sample
        from bold_anode.tubes.carrying import TUBES
        from bold_anode.tubes.operations import FITTING, fit_tube

        kinds.register(FITTING, fit_tube)
        carried.register(TUBES)
        samples.register(demo=sample.fill_demo, addressed=sample.addressed)

from django.apps import AppConfig


class AtticConfig(AppConfig):
    name = "bold_anode.attic"

    def ready(self) -> None:
        from bold_anode.attic import sample
        from bold_anode.attic.carrying import NOTES
        from bold_anode.attic.views import draw

        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.frame import carried, samples

        register(Room("attic", "Attic", "What has been put away?", draw, Group.BUILD, 9))
        carried.register(NOTES)
        samples.register(demo=sample.fill_demo, addressed=sample.addressed)

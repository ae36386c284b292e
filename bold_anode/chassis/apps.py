from django.apps import AppConfig


class ChassisConfig(AppConfig):
    name = "bold_anode.chassis"

    def ready(self) -> None:
        from bold_anode.amps import studies
        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.chassis import sample, searching
        from bold_anode.chassis.carrying import LAYOUTS, SIZES
        from bold_anode.chassis.earths import draw as draw_earths
        from bold_anode.chassis.views import draw
        from bold_anode.frame import carried, samples

        register(
            Room("chassis", "Chassis", "Where does everything go, and will it hum or cook?", draw, Group.BUILD, 1)
        )
        register(Room("earths", "Earths", "Which wire carries whose return current?", draw_earths, Group.BUILD, 2))
        studies.register(searching.CHANGES, searching.PROPOSAL)
        carried.register(LAYOUTS, SIZES)
        samples.register(demo=sample.fill_demo, addressed=sample.addressed)

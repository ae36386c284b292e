from django.apps import AppConfig


class ChassisConfig(AppConfig):
    name = "bold_anode.chassis"

    def ready(self) -> None:
        from bold_anode.amps.operations import copied
        from bold_anode.amps.rooms import Room, register
        from bold_anode.chassis import searching
        from bold_anode.chassis.carrying import LAYOUTS, SIZES
        from bold_anode.chassis.earths import draw as draw_earths
        from bold_anode.chassis.operations import copy_layouts
        from bold_anode.chassis.views import draw
        from bold_anode.frame import carried

        register(Room("chassis", "Chassis", "Where does everything go, and will it hum or cook?", draw))
        register(Room("earths", "Earths", "Which wire carries whose return current?", draw_earths))
        copied.connect(copy_layouts)
        searching.register()
        carried.register(LAYOUTS, SIZES)

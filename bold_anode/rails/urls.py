from django.urls import path

from bold_anode.rails import heaters, house, playing, switching

urlpatterns = [
    path("amps/<int:project_id>/rails/read/", house.read, name="mains-read"),
    path("amps/<int:project_id>/rails/read/<int:reading_id>/forget/", house.forget, name="mains-forget"),
    path("amps/<int:project_id>/rails/use/", house.use, name="mains-use"),
    path("amps/<int:project_id>/rails/take/", house.take, name="mains-take"),
    path("amps/<int:project_id>/heaters/feed/", heaters.feed, name="heaters-feed"),
    path("amps/<int:project_id>/heaters/balance/", heaters.balance, name="filament-balance"),
    path("amps/<int:project_id>/rails/selenium/", house.selenium, name="selenium-replace"),
    path("amps/<int:project_id>/rails/bleed/", switching.bleed, name="bleeder-fit"),
    path("amps/<int:project_id>/rails/hum-tap/", playing.hum_tap, name="hum-tap"),
]

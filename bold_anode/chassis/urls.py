from django.urls import path

from bold_anode.chassis import views

urlpatterns = [
    path("amps/<int:project_id>/chassis/laid/", views.layout, name="chassis-laid"),
    path("amps/<int:project_id>/chassis/place/", views.place, name="chassis-place"),
    path("amps/<int:project_id>/chassis/arrange/", views.arrange, name="chassis-arrange"),
    path("amps/<int:project_id>/chassis/box/", views.box, name="chassis-box"),
    path("amps/<int:project_id>/chassis/wire/", views.wire, name="chassis-wire"),
    path("amps/<int:project_id>/chassis/wiring/", views.wiring, name="chassis-wiring"),
    path("amps/<int:project_id>/chassis/fitting/", views.fitting, name="chassis-fitting"),
    path("amps/<int:project_id>/chassis/step/", views.step, name="chassis-step"),
]

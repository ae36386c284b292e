from django.urls import path

from bold_anode.powerup import views

urlpatterns = [
    path("amps/<int:project_id>/power-up/readings/", views.start, name="readings-start"),
    path("readings/<int:set_id>/", views.reading, name="reading"),
    path("readings/<int:set_id>/meaning/", views.meaning, name="meaning"),
]

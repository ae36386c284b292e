from django.urls import path

from bold_anode.brief import choosing

urlpatterns = [
    path("amps/<int:project_id>/brief/take/<int:work_id>/<int:place>/", choosing.take, name="chooser-take"),
]

"""All addresses."""

from django.apps import AppConfig, apps
from django.urls import include, path, register_converter
from django.utils.module_loading import module_has_submodule

from bold_anode.amps import studies, views
from bold_anode.amps.rooms import RoomInAddress
from bold_anode.frame import views as frame_views


def _has_addresses(app: AppConfig) -> bool:
    return app.name.startswith("bold_anode.") and module_has_submodule(app.module, "urls")


register_converter(RoomInAddress, "room")
urlpatterns = [
    path("", views.workshop, name="workshop"),
    path("stored/<str:model>/<int:pk>/", frame_views.row, name="stored-row"),
    *(path("", include(f"{app.name}.urls")) for app in apps.get_app_configs() if _has_addresses(app)),
    path("amps/new/", views.new, name="new"),
    path("amps/import/", views.import_file, name="import"),
    path("amps/<int:project_id>/card/", views.card, name="card"),
    path("amps/<int:project_id>/export/", views.export, name="export"),
    path("amps/<int:project_id>/duplicate/", views.duplicate, name="duplicate"),
    path("amps/<int:project_id>/delete/", views.delete, name="delete"),
    path("amps/<int:project_id>/restore/", views.restore, name="restore"),
    path("amps/<int:project_id>/study/<slug:slug>/", studies.view, name="study"),
    path("amps/<int:project_id>/<room:slug>/", views.room, name="room"),
    path("amps/<int:project_id>/<room:slug>/findings/", views.findings, name="findings"),
    path("amps/<int:project_id>/<room:slug>/change/", views.change, name="change"),
    path("amps/<int:project_id>/<room:slug>/undo/", views.undo, name="undo"),
    path("amps/<int:project_id>/<room:slug>/redo/", views.redo, name="redo"),
]
handler404 = "bold_anode.frame.views.not_found"
handler500 = "bold_anode.frame.views.failed"

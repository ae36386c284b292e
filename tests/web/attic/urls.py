from bold_anode.attic import views
from django.urls import path

urlpatterns = [
    path("amps/<int:project_id>/attic/notes/", views.add, name="attic-add"),
    path("attic/<int:note_id>/remove/", views.remove, name="attic-remove"),
]

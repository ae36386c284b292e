from django.urls import path

from bold_anode.tubes import views

urlpatterns = [
    path("tubes/", views.drawer, name="tubes"),
    path("tubes/add/", views.add, name="add-tube"),
    path("tubes/fitting/", views.fitting, name="fitting"),
    path("tubes/fitting/forget/", views.forget_fits, name="forget-fits"),
    path("tubes/<int:tube_id>/remove/", views.remove, name="remove-tube"),
]

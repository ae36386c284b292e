from django.urls import path

from bold_anode.chain import views

urlpatterns = [path("amps/<int:project_id>/chain/part/", views.part, name="chain-part")]

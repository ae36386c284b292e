from django.urls import path

from bold_anode.tasks import views

urlpatterns = [path("work/<int:work_id>/cancel/", views.cancel, name="work-cancel")]

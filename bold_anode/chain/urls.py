from django.urls import path

from bold_anode.chain import feedback, study_views, views

urlpatterns = [
    path("amps/<int:project_id>/chain/part/", views.part, name="chain-part"),
    path("amps/<int:project_id>/chain/study/<slug:slug>/", study_views.study, name="chain-study"),
    path(
        "amps/<int:project_id>/chain/feedback/<slug:block_id>/",
        feedback.compensation,
        name="chain-compensation",
    ),
    path(
        "amps/<int:project_id>/chain/feedback/<slug:block_id>/put-in/",
        feedback.compensate,
        name="chain-compensate",
    ),
]

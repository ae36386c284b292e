from django.urls import path

from bold_anode.chain import dragging, feedback, variants, views

urlpatterns = [
    path("amps/<int:project_id>/chain/part/", views.part, name="chain-part"),
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
    path("amps/<int:project_id>/chain/drag/", dragging.drag, name="chain-drag"),
    path("amps/<int:project_id>/chain/variants/keep/", variants.keep, name="variant-keep"),
    path("amps/<int:project_id>/chain/variants/<int:variant_id>/", variants.row, name="variant-row"),
    path("amps/<int:project_id>/chain/variants/<int:variant_id>/choose/", variants.choose, name="variant-choose"),
    path("amps/<int:project_id>/chain/variants/<int:variant_id>/rename/", variants.rename, name="variant-rename"),
    path("amps/<int:project_id>/chain/variants/<int:variant_id>/drop/", variants.drop, name="variant-drop"),
]

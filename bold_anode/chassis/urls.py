from django.urls import path

from bold_anode.chassis import earths, sheets, variants, views

urlpatterns = [
    path("amps/<int:project_id>/chassis/laid/", views.layout, name="chassis-laid"),
    path("amps/<int:project_id>/chassis/place/", views.place, name="chassis-place"),
    path("amps/<int:project_id>/chassis/line-up/", views.line_up, name="chassis-line-up"),
    path("amps/<int:project_id>/chassis/size/", views.size, name="chassis-size"),
    path("amps/<int:project_id>/chassis/arrange/", views.arrange, name="chassis-arrange"),
    path("amps/<int:project_id>/chassis/box/", views.box, name="chassis-box"),
    path("amps/<int:project_id>/chassis/wire/", views.wire, name="chassis-wire"),
    path("amps/<int:project_id>/chassis/wiring/", views.wiring, name="chassis-wiring"),
    path("amps/<int:project_id>/chassis/fitting/", views.fitting, name="chassis-fitting"),
    path("amps/<int:project_id>/chassis/offer/", views.offer, name="chassis-offer"),
    path("amps/<int:project_id>/chassis/proposal/", views.proposal, name="chassis-proposal"),
    path("amps/<int:project_id>/chassis/stray/", sheets.stray, name="chassis-stray"),
    path("amps/<int:project_id>/chassis/holes/", sheets.take_holes, name="chassis-holes"),
    path("amps/<int:project_id>/chassis/drill/<str:name>", sheets.drill, name="chassis-drill"),
    path("amps/<int:project_id>/chassis/keep/", variants.keep, name="chassis-keep"),
    path("amps/<int:project_id>/chassis/choose/<int:layout_id>/", variants.choose, name="chassis-choose"),
    path("amps/<int:project_id>/chassis/drop/<int:layout_id>/", variants.drop, name="chassis-drop"),
    path("amps/<int:project_id>/earths/set/", earths.set_earthing, name="earths-set"),
    path("amps/<int:project_id>/chassis/step/", views.step, name="chassis-step"),
]

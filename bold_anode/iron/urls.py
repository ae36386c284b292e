from django.urls import path

from bold_anode.iron import shelf, unknown

urlpatterns = [
    path("shelf/", shelf.page, name="shelf"),
    path("shelf/add/", shelf.add, name="shelf-add"),
    path("shelf/<int:item_id>/change/", shelf.change, name="shelf-change"),
    path("shelf/<int:item_id>/remove/", shelf.remove, name="shelf-remove"),
    path("shelf/<int:item_id>/put-back/", shelf.put_back, name="shelf-put-back"),
    path("amps/<int:project_id>/iron/use/<int:item_id>/", shelf.use, name="shelf-use"),
    path("amps/<int:project_id>/iron/origin/", shelf.origin, name="iron-origin"),
    path("unknown-iron/", unknown.page, name="unknown-iron"),
    path("unknown-iron/begin/", unknown.begin, name="unknown-iron-begin"),
    path("unknown-iron/<int:unknown_id>/", unknown.one, name="unknown-iron-one"),
    path("unknown-iron/<int:unknown_id>/read/", unknown.read, name="unknown-iron-read"),
    path("unknown-iron/<int:unknown_id>/take-back/<int:place>/", unknown.take_back, name="unknown-iron-take-back"),
    path("unknown-iron/<int:unknown_id>/describe/", unknown.describe, name="unknown-iron-describe"),
    path("unknown-iron/<int:unknown_id>/forget/", unknown.forget, name="unknown-iron-forget"),
]

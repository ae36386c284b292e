from django.contrib.auth.views import LogoutView
from django.urls import path

from bold_anode.accounts import views

urlpatterns = [
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("account/sign-out-everywhere/", views.sign_out_everywhere, name="sign-out-everywhere"),
    path("sign-up/", views.sign_up, name="sign-up"),
    path("account/", views.account, name="account"),
    path("account/password/", views.change_password, name="change-password"),
    path("account/export/", views.export_all, name="export-all"),
    path("account/import/", views.import_all, name="import-all"),
    path("account/import/state/", views.import_state, name="import-state"),
    path("account/delete/", views.delete, name="delete-account"),
]

from django.contrib.auth.views import LogoutView
from django.urls import path

from bold_anode.accounts import views

urlpatterns = [
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("sign-up/", views.sign_up, name="sign-up"),
]

from django.contrib.auth.views import LogoutView, PasswordChangeView
from django.urls import path

from studio.accounts import views

urlpatterns = [
    path("login/", views.Login.as_view(), name="login"),
    path("logout/", LogoutView.as_view(), name="logout"),
    path("password/", PasswordChangeView.as_view(template_name="accounts/password.html", success_url="/"), name="password"),
    path("characters/<int:pk>/sharing/", views.sharing, name="sharing"),
]

from django.apps import AppConfig


class OperatingConfig(AppConfig):
    name = "operating"

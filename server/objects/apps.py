from django.apps import AppConfig


class ObjectsConfig(AppConfig):
    name = "objects"

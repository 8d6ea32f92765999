"""People, for the administrator."""

from axes.models import AccessAttempt, AccessFailureLog, AccessLog
from django.contrib import admin
from django.contrib.auth import get_user_model
from django.contrib.auth.admin import UserAdmin
from django.contrib.auth.models import Group
from django_tasks_db.models import DBTaskResult

from accounts.models import Allowance

Person = get_user_model()
for hidden in (Group, Person, AccessAttempt, AccessFailureLog, AccessLog, DBTaskResult):
    if admin.site.is_registered(hidden):
        admin.site.unregister(hidden)


class AllowanceInline(admin.StackedInline):
    """The room that a person's objects may take."""

    model = Allowance
    can_delete = True


@admin.register(Person)
class PersonAdmin(UserAdmin):
    """People without what this application does not use."""

    list_display = ("username", "first_name", "last_name", "is_active", "is_staff", "last_login")
    list_filter = ("is_active", "is_staff")
    inlines = (AllowanceInline,)
    fieldsets = (
        (None, {"fields": ("username", "password")}),
        ("Person", {"fields": ("first_name", "last_name", "email")}),
        ("May", {"fields": ("is_active", "is_staff", "is_superuser")}),
        ("Seen", {"fields": ("last_login", "date_joined")}),
    )
    readonly_fields = ("last_login", "date_joined")

"""Paths as resources."""

from collections.abc import Collection

from lumtar.core.measures.paths import PATH
from lumtar.domain.operation.resources import Kind, Named, register
from lumtar.domain.paths.models import Path


def _paths(ids: Collection[int]) -> dict[int, Named]:
    rows = Path.objects.filter(pk__in=ids).select_related("from_site")
    return {row.pk: Named(row.name, row.from_site.name if row.from_site else "") for row in rows}


register(Kind(PATH, "path", "/paths/{id}", _paths))

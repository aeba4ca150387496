"""A file of services: what a link is to carry, and what it promises for each (ITU-T Y.1564 §6). TOML."""

from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Duration, Model, Rate, Share, named_once, with_new_names
from harvok.core.udp.services import ServiceLimits, ServiceSpec


class Service(Model):
    """One service: its committed rate in Ethernet frames (L2), and its limits, any of which may be left out."""

    name: Annotated[str, Field(min_length=1, max_length=40)]
    committed: Rate
    frame_size: Annotated[int, Field(ge=64, le=65_535)] = 1518
    flows: Annotated[int, Field(ge=1, le=64)] = 1
    dscp: Annotated[int, Field(ge=0, le=63)] | None = None
    max_loss: Share | None = None
    max_delay: Duration | None = None
    max_variation: Duration | None = None

    @model_validator(mode="before")
    @classmethod
    def _former_keys(cls, values: Any) -> Any:
        former = {"most_loss": "max_loss", "most_delay": "max_delay", "most_variation": "max_variation"}
        return with_new_names(values, former)

    def build(self) -> ServiceSpec:
        """The service as the procedures take it."""
        limits = ServiceLimits(self.max_loss, self.max_delay, self.max_variation)
        return ServiceSpec(self.committed, self.frame_size, None, self.name, self.flows, self.dscp, limits)


class ServicesFile(Model):
    """All services of one link."""

    format: Literal["harvok-services"]
    version: Literal[1]
    services: Annotated[list[Service], Field(min_length=1, max_length=32)]

    @field_validator("services")
    @classmethod
    def _names_differ(cls, services: list[Service]) -> list[Service]:
        return named_once(services, "services")

    @model_validator(mode="after")
    def _flows_fit(self) -> "ServicesFile":
        if sum(service.flows for service in self.services) > 64:
            raise ValueError("all services together have at most 64 flows")
        return self


SERVICES_FILE: TypeAdapter[ServicesFile] = TypeAdapter(ServicesFile)

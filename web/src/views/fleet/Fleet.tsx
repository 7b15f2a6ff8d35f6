import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { sitesAtQuery } from "../../api/queries";
import { useKeys, useRowKeys } from "../../app/keys";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { Problem } from "../../components/Problem";
import { DeviceList } from "./DeviceList";
import { DevicePage } from "./DevicePage";
import { InventoryList } from "./InventoryList";
import { LinkList } from "./LinkList";
import { Live } from "./Live";
import { PortGrid } from "./PortGrid";
import { PortList } from "./PortList";
import { PortPage } from "./PortPage";
import { PoweredList } from "./Powered";
import { SiteList } from "./SiteList";
import { StationList } from "./Stations";
import { Together } from "./Together";
import { useTrail } from "./trail";
import { WirelessList } from "./Wireless";

/** The trail: sites, then their ports or devices, then the thing itself; each column keeps its place. */
export function Fleet() {
  const { kind, number } = useParams();
  const [search] = useSearchParams();
  const { place } = usePlace();
  const time = useScreenTime();
  const trail = useTrail();
  const navigate = useNavigate();
  const { data: sites, error } = useQuery(sitesAtQuery(time.at));
  const open = kind !== undefined;
  useRowKeys();
  useKeys({ Escape: () => (time.following || !open ? navigate(trail.list()) : navigate(-1)) });
  if (!sites) return <Problem error={error} />;
  if (sites.length === 0) {
    return (
      <div className="max-w-[560px] p-6">
        <h1 className="mb-2 text-headline tracking-tight">Nothing is watched yet.</h1>
        <p className="mb-4 text-ink2">
          Add the first device by its address; what it is, and its ports, appear here within seconds.
        </p>
        <p className="flex gap-2">
          <Link to="/setup/add" className="button">
            Add a device
          </Link>
          <Link to="/setup/list" className="button">
            Add a list
          </Link>
        </p>
      </div>
    );
  }
  const wanted = search.get("device") ? "ports" : search.get("list");
  return (
    <div
      className={`grid h-full ${open ? "grid-cols-[160px_264px_minmax(0,1fr)] max-lg:grid-cols-[minmax(0,1fr)]" : "grid-cols-[160px_minmax(0,1fr)] max-md:grid-cols-[minmax(0,1fr)]"}`}
    >
      <SiteList sites={sites} chosen={place} />
      <div className={`min-h-0 border-r border-rule ${open ? "max-lg:hidden" : ""}`}>
        {wanted === "inventory" && !open ? (
          <InventoryList />
        ) : wanted === "grid" && !open ? (
          <PortGrid />
        ) : wanted === "links" && !open ? (
          <LinkList />
        ) : wanted === "stations" && !open ? (
          <StationList />
        ) : wanted === "wireless" && !open ? (
          <WirelessList />
        ) : wanted === "power" && !open ? (
          <PoweredList />
        ) : wanted === "live" && !open ? (
          <Live />
        ) : wanted === "total" && !open ? (
          <Together />
        ) : wanted === "devices" || wanted === "inventory" ? (
          <DeviceList narrow={open} />
        ) : (
          <PortList narrow={open} />
        )}
      </div>
      {open && (
        <div className="min-h-0 overflow-auto px-[18px] pt-3 pb-4">
          {kind === "device" ? (
            <DevicePage key={number} device={Number(number)} />
          ) : (
            <PortPage key={number} port={Number(number)} />
          )}
        </div>
      )}
    </div>
  );
}

import type { TrafficFilter } from "../../api/trafficQueries";

const PROTOCOLS: Record<string, string> = { "1": "icmp", "6": "tcp", "17": "udp", "58": "icmp6" };

// In version 6 either eight groups or a double colon; less than that is a time of day.
const ADDRESS =
  /(?<![\w.:])((\d{1,3}\.){3}\d{1,3}|[0-9a-f]{1,4}(:[0-9a-f]{1,4}){7}|(?=[0-9a-f:]*::)[0-9a-f:]{3,39})(?![\w:]|\.\d)/i;

/** Where a capture begins that is about an alarm: with the first address that the alarm names, if it names one. */
export function captureOf(alarm: { label: string; text: string }): string {
  const address = ADDRESS.exec(`${alarm.label} ${alarm.text}`)?.[0];
  const why = `alarm ${alarm.label}`.slice(0, 300);
  return `/traffic?${new URLSearchParams({ list: "captures", ...(address ? { address } : {}), why })}`;
}

/** What is shown as a filter of libpcap, as far as that can say it. */
export function captureFilter({ sender, receiver, address, port, protocol }: TrafficFilter): string {
  const named = protocol ? (PROTOCOLS[protocol] ?? `proto ${protocol}`) : "";
  // Packets of both directions are of interest, whichever one is shown.
  const parts = [
    sender && `host ${sender}`,
    receiver && `host ${receiver}`,
    address && `host ${address}`,
    port && port !== "0" && !named.startsWith("icmp") ? `${named} port ${port}`.trim() : named,
  ];
  return parts.filter(Boolean).join(" and ");
}

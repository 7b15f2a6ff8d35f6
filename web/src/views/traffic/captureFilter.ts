import type { TrafficFilter } from "../../api/trafficQueries";

const PROTOCOLS: Record<string, string> = { "1": "icmp", "6": "tcp", "17": "udp", "58": "icmp6" };

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

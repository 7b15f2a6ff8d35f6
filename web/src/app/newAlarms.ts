type Row = { id: number; raised_at: string; severity: number };

/** What somebody has seen of an alarm: which raising of it, and how bad it was. */
export type Seen = ReadonlyMap<number, { raised_at: string; severity: number }>;

/** The alarms that are new, or worse than they were, and what is seen now. The first look makes nothing new. */
export function newOf<R extends Row>(rows: R[], seen: Seen | null): { fresh: R[]; seen: Seen } {
  const now = new Map(rows.map(({ id, raised_at, severity }) => [id, { raised_at, severity }]));
  if (seen === null) return { fresh: [], seen: now };
  const fresh = rows.filter((row) => {
    const before = seen.get(row.id);
    return !before || before.raised_at !== row.raised_at || row.severity > before.severity;
  });
  // What fell out of the list since others are worse is still known when it comes back.
  return { fresh, seen: new Map([...[...seen].slice(-500), ...now]) };
}

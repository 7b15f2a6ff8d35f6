import type { Schemas } from "../../api/client";

type Part = Schemas["ComponentOut"];

/** What there can be many of, and what they are called together. */
const MANY: Record<string, (many: number) => string> = {
  "poe port": (many) => `${many === 1 ? "port" : "ports"} with power over Ethernet`,
  tunnel: (many) => (many === 1 ? "tunnel" : "tunnels"),
};
const FEW = 6;

/** Fans, power supplies, tunnels and powered ports: each by its word; many of a kind by how many there are of a word. */
export function ComponentStates({ components }: { components: Part[] }) {
  const states = components.filter((part) => part.words);
  if (states.length === 0) return null;
  const isOneOfMany = ({ kind, is_good }: Part) =>
    is_good && kind in MANY && (kind !== "tunnel" || states.filter((part) => part.kind === kind).length > FEW);
  const single = states.filter((part) => !isOneOfMany(part));
  const together = new Map<string, Part[]>();
  for (const part of states.filter(isOneOfMany)) {
    const key = `${part.kind}: ${part.words}`;
    together.set(key, [...(together.get(key) ?? []), part]);
  }
  return (
    <section aria-label="Component states">
      <h2 className="heading mt-3">Components</h2>
      <ul className="text-small">
        {single.map((part) => (
          <li key={part.id} className="flex justify-between gap-2 border-b border-dotted border-rule py-[3px]">
            <span>{part.name}</span>
            <span className={part.is_good ? "text-ink2" : "font-medium text-critical"}>{part.words}</span>
          </li>
        ))}
        {[...together].map(([key, parts]) => (
          <li key={key} className="border-b border-dotted border-rule py-[3px]">
            <details>
              <summary className="cursor-pointer">
                {parts.length} {MANY[parts[0]?.kind ?? ""]?.(parts.length)}:{" "}
                <span className="text-ink2">{parts[0]?.words}</span>
              </summary>
              <p className="text-ink2">{parts.map(({ name }) => name.replace("PoE port ", "")).join(", ")}</p>
            </details>
          </li>
        ))}
      </ul>
    </section>
  );
}

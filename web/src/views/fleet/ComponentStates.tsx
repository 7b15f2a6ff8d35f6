import type { Schemas } from "../../api/client";

type Part = Schemas["ComponentOut"];

/** Fans, power supplies and powered ports: each by its word; the many ports by how many there are of a word. */
export function ComponentStates({ components }: { components: Part[] }) {
  const states = components.filter((part) => part.words);
  if (states.length === 0) return null;
  const single = states.filter((part) => part.kind !== "poe port" || !part.is_good);
  const ports = new Map<string, Part[]>();
  for (const part of states)
    if (part.kind === "poe port" && part.is_good) ports.set(part.words, [...(ports.get(part.words) ?? []), part]);
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
        {[...ports].map(([words, ofWords]) => (
          <li key={words} className="border-b border-dotted border-rule py-[3px]">
            <details>
              <summary className="cursor-pointer">
                {ofWords.length} {ofWords.length === 1 ? "port" : "ports"} with power over Ethernet:{" "}
                <span className="text-ink2">{words}</span>
              </summary>
              <p className="text-ink2">{ofWords.map((part) => part.name.replace("PoE port ", "")).join(", ")}</p>
            </details>
          </li>
        ))}
      </ul>
    </section>
  );
}

import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { useState } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { RuleLevels } from "./RuleLevels";
import { RuleSentence } from "./RuleSentence";
import { BLANK, type Draft, draftOf, unitOf, type Vocabulary } from "./ruleDraft";
import { says } from "./ruleWords";

afterEach(cleanup);

const words: Vocabulary = {
  measures: [
    { name: "load", words: "Utilisation", unit: "%", subject: "interface" },
    { name: "unanswered", words: "No answer to polls", unit: "", subject: "device" },
    { name: "temperature", words: "Temperature", unit: "°C", subject: "component" },
  ],
  statistics: [
    { name: "value", words: "each value", unit: "{unit}", has_window: false },
    { name: "mean", words: "mean", unit: "{unit}", has_window: true },
  ],
  references: [{ name: "learned", words: "usual range", unit: "× spread" }],
  fields: {},
  text_variables: {},
  ready: [],
};
const seen: { draft: Draft | null } = { draft: null };

function Fields({ first }: { first: Draft }) {
  const [draft, setDraft] = useState(first);
  seen.draft = draft;
  const change = (changed: Partial<Draft>) => setDraft({ ...draft, ...changed });
  return (
    <>
      <RuleSentence draft={draft} words={words} change={change} />
      <RuleLevels draft={draft} unit={unitOf(words, draft)} change={change} />
    </>
  );
}
const show = () => render(<Fields first={draftOf(words, BLANK)} />);
const type = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

describe("a rule as a sentence", () => {
  it("asks for a window only where one is looked back over", () => {
    show();
    type("Window in minutes", "15");
    expect(seen.draft?.minutes).toBe("15");
    type("Statistic", "value");
    expect(screen.queryByLabelText("Window in minutes")).toBeNull();
  });

  it("asks where of what it is about", () => {
    show();
    type("Ports where", "role is wan");
    expect(seen.draft?.scope).toBe("role is wan");
    type("Measure", "temperature");
    expect(screen.getByLabelText("Components where")).toBeTruthy();
    expect(screen.getByText("in °C")).toBeTruthy();
    type("Measure", "unanswered");
    expect(screen.getByText(/polls\./)).toBeTruthy();
  });

  it("has limits in units of what it is compared with, and of a range on both sides", () => {
    show();
    type("Direction", "outside");
    type("Lower limit of major", "5");
    expect(seen.draft?.levels[0]?.low).toBe("5");
    type("Compared with", "learned");
    expect(screen.queryByLabelText("Lower limit of major")).toBeNull();
    expect(screen.getByText("in × spread")).toBeTruthy();
    expect(screen.getByText("away by")).toBeTruthy();
  });

  it("has one value where something is equal to it, and hours", () => {
    show();
    type("Direction", "equal");
    expect(screen.queryByLabelText("Clearing limit of major")).toBeNull();
    type("Hours", "Mon-Fri 08:00-18:00");
    expect(seen.draft?.hours).toBe("Mon-Fri 08:00-18:00");
    expect(screen.getByLabelText("Time zone")).toBeTruthy();
  });

  it("counts values or minutes, and keeps what was typed of the other", () => {
    show();
    type("Times", "3");
    type("How long", "for");
    type("Hold in minutes", "20");
    expect(screen.queryByLabelText("Times")).toBeNull();
    type("How long", "times");
    expect((screen.getByLabelText("Times") as HTMLInputElement).value).toBe("3");
    expect(seen.draft?.holdMinutes).toBe("20");
  });

  it("turns the words of its levels round with the direction", () => {
    show();
    expect(screen.getByText("clear below")).toBeTruthy();
    type("Direction", "below");
    expect(seen.draft?.direction).toBe("below");
    expect(screen.getByText("clear above")).toBeTruthy();
  });
});

describe("levels", () => {
  it("can be added up to five, and all but one removed", () => {
    show();
    for (let number = 0; number < 4; number++) fireEvent.click(screen.getByText("Add a level"));
    expect(screen.queryByText("Add a level")).toBeNull();
    expect(new Set(seen.draft?.levels.map(({ severity }) => severity))).toEqual(new Set([1, 2, 3, 4, 5]));
    for (const word of ["critical", "minor", "warning", "indeterminate"])
      fireEvent.click(screen.getByLabelText(`Remove ${word}`));
    expect(screen.queryByText("×")).toBeNull();
    expect(seen.draft?.levels).toHaveLength(1);
  });

  it("have a limit and a clearing limit each", () => {
    show();
    type("Limit of major", "85");
    type("Clearing limit of major", "75");
    expect(seen.draft?.levels[0]).toMatchObject({ severity: 4, limit: "85", clear: "75" });
  });
});

describe("what a stored rule says", () => {
  const stored = {
    ...BLANK,
    id: 1,
    words: "Mean of utilisation over 10 minutes",
    unit: "%",
    subject: "interface",
    revision: 1,
    plan: null,
    exceptions: [],
  };

  it("is a sentence, and one for each level", () => {
    expect(says({ ...stored, scope: "role is wan" })).toEqual({
      what: "Mean of utilisation over 10 minutes, of ports where role is wan, beyond a limit.",
      levels: ["major above 90 %, cleared below 80 %"],
    });
    expect(says({ ...stored, words: "Utilisation", window_s: 0, times: 3, of: 3 }).what).toBe(
      "Utilisation of all ports, beyond a limit for 3 readings in a row.",
    );
    expect(says({ ...stored, hold_s: 600 }).what).toMatch(/for 10 min\.$/);
  });

  it("of silence and of Lumtar itself needs no limits", () => {
    expect(says({ ...stored, measure: "unanswered", subject: "device", times: 2, of: 2 }).what).toBe(
      "A device that does not answer for 2 polls in a row.",
    );
    expect(says({ ...stored, measure: "lumtar" }).levels).toEqual([]);
  });
});

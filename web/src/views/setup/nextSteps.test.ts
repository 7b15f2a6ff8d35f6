import { describe, expect, it } from "vitest";
import { nextSteps, stateOf } from "./nextSteps";

const whole = {
  devices: 61,
  retired: 0,
  credentials: 2,
  profiles: 7,
  label_rules: 3,
  groups: 4,
  own_fields: 0,
  sweeps: 1,
  admission_rules: 2,
  controllers: 1,
  awaiting: 0,
  people: 2,
  tokens: 0,
  without_plan: [],
  troubles: 0,
};

describe("the start page of the set-up", () => {
  it("has nothing to say when nothing is missing", () => {
    expect(nextSteps(whole)).toEqual([]);
  });

  it("begins with a credential where there is nothing at all", () => {
    const nothing = { ...whole, devices: 0, credentials: 0, groups: 0, people: 1, without_plan: ["Utilisation"] };
    expect(nextSteps(nothing).map((step) => step.action)).toEqual([
      "Create a credential",
      "Add a device",
      "Say who is called",
      "Add a person",
    ]);
  });

  it("names the rules that notify nobody and counts what awaits review", () => {
    const words = nextSteps({ ...whole, awaiting: 3, without_plan: ["Utilisation", "Reachability"] }).map(
      (step) => step.words,
    );
    expect(words).toEqual(["3 found, not yet decided", "nobody is, by Utilisation, Reachability"]);
  });

  it("names a few of many rules", () => {
    const [step] = nextSteps({ ...whole, without_plan: ["A", "B", "C", "D", "E", "F"] });
    expect(step?.words).toBe("nobody is, by A, B, C, D and 2 more rules");
  });

  it("counts what there is beside each page", () => {
    expect([stateOf("credentials", whole), stateOf("audit", whole)]).toEqual(["2", ""]);
  });
});

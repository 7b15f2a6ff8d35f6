import type { Schemas } from "../../api/client";

type State = Schemas["SetupOut"];
type Step = { action: string; words: string; to: string };

/** The first few names of many, and how many more there are. */
function someOf(names: string[]): string {
  const more = names.length - 4;
  return more > 1 ? `${names.slice(0, 4).join(", ")} and ${more} more rules` : names.join(", ");
}

/** What is missing, the most needed first. */
export function nextSteps(state: State): Step[] {
  const steps: [boolean, Step][] = [
    [
      state.devices === 0 && state.credentials === 0,
      {
        action: "Create a credential",
        words: "without one, no device can be polled by SNMP",
        to: "/setup/credentials",
      },
    ],
    [
      state.devices === 0,
      { action: "Add a device", words: "or a list, or sweep a range of addresses", to: "/setup/add" },
    ],
    [
      state.awaiting > 0,
      { action: "Review what sweeps found", words: `${state.awaiting} found, not yet decided`, to: "/setup/sweeps" },
    ],
    [
      state.without_plan.length > 0,
      { action: "Say who is called", words: `nobody is, by ${someOf(state.without_plan)}`, to: "/alarms" },
    ],
    [
      state.troubles > 0,
      { action: "See the services", words: `${state.troubles} of their problems are open`, to: "/setup/services" },
    ],
    [
      state.devices > 0 && state.groups === 0,
      {
        action: "Make a group",
        words: "to total and compare ports, such as the links between sites",
        to: "/setup/groups",
      },
    ],
    [state.people === 1, { action: "Add a person", words: "only one can sign in", to: "/setup/people" }],
  ];
  return steps.filter(([isMissing]) => isMissing).map(([, step]) => step);
}

/** How much of something there is, beside its page. */
export function stateOf(page: string, state: State): string {
  const counts: Record<string, number | undefined> = {
    add: state.devices,
    sweeps: state.sweeps,
    admission: state.admission_rules,
    controllers: state.controllers,
    retired: state.retired,
    credentials: state.credentials,
    profiles: state.profiles,
    labels: state.label_rules,
    groups: state.groups,
    fields: state.own_fields,
    people: state.people,
    tokens: state.tokens,
  };
  return counts[page]?.toLocaleString("en-GB") ?? "";
}

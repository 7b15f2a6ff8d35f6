import type { Schemas } from "../../api/client";

export type Plan = Schemas["PlanOut"];
export type DraftStep = {
  key: number;
  minutes: string;
  times: string;
  everyMinutes: string;
  from_severity: number;
  channels: string[];
  contacts: number[];
  teams: number[];
};

/** A call plan while it is written: times in minutes, as they are typed. */
export type PlanDraft = Omit<Schemas["PlanIn"], "steps"> & { steps: DraftStep[] };

export function draftOf(stored: Plan | undefined): PlanDraft {
  return {
    name: stored?.name ?? "",
    on_worse: stored?.on_worse ?? true,
    on_clear: stored?.on_clear ?? true,
    raise_subject: stored?.raise_subject ?? "",
    raise_text: stored?.raise_text ?? "",
    clear_subject: stored?.clear_subject ?? "",
    clear_text: stored?.clear_text ?? "",
    steps: stored?.steps.map((step, key) => stepOf(step, key)) ?? [furtherStep([])],
  };
}

function stepOf(step: Schemas["StepIO"], key: number): DraftStep {
  return {
    key,
    minutes: String((step.after_s ?? 0) / 60),
    times: String(step.times ?? 1),
    everyMinutes: String((step.repeat_s || 900) / 60),
    from_severity: step.from_severity ?? 1,
    channels: step.channels ?? [],
    contacts: step.contacts ?? [],
    teams: step.teams ?? [],
  };
}

/** A further step: a quarter of an hour after the last one. */
export function furtherStep(steps: DraftStep[]): DraftStep {
  const last = steps[steps.length - 1];
  return {
    key: Math.max(-1, ...steps.map(({ key }) => key)) + 1,
    minutes: last ? String(Number(last.minutes) + 15) : "0",
    times: "1",
    everyMinutes: "15",
    from_severity: 1,
    channels: [],
    contacts: [],
    teams: [],
  };
}

export function bodyOf(draft: PlanDraft): Schemas["PlanIn"] {
  return {
    ...draft,
    steps: draft.steps.map(({ minutes, times, everyMinutes, key: _, ...step }) => ({
      ...step,
      after_s: Math.round(Number(minutes) * 60),
      times: Number(times),
      repeat_s: Number(times) > 1 ? Math.round(Number(everyMinutes) * 60) : 0,
    })),
  };
}

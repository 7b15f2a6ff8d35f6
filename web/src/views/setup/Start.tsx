import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { setupQuery } from "../../api/setupQueries";
import { useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { counted } from "../../components/format";
import { Problem } from "../../components/Problem";
import { nextSteps, stateOf } from "./nextSteps";
import type { SetupPage } from "./pages";

/** What is set up, what is missing, and what is next. */
export function Start({ groups }: { groups: { name: string; pages: SetupPage[] }[] }) {
  const search = useTimeSearch();
  const may = useMay();
  const { data, error } = useQuery({ ...setupQuery, enabled: may("engineer", true) });
  const steps = data ? nextSteps(data) : [];
  return (
    <>
      <h1 className="text-title font-semibold tracking-tight">Setup</h1>
      <Problem error={error} />
      {data && (
        <section aria-label="Next steps" className="mt-1 mb-3 max-w-[760px]">
          {steps.length === 0 ? (
            <p className="text-ink2">
              {counted(data.devices, "device")} polled, alarms reach somebody, and nothing awaits review.
            </p>
          ) : (
            <>
              <h2 className="heading">Next</h2>
              <ol>
                {steps.map((step) => (
                  <li key={step.words} className="border-b border-dotted border-rule py-1">
                    <Link to={step.to + search()} className="underline">
                      {step.action}
                    </Link>
                    : {step.words}
                  </li>
                ))}
              </ol>
            </>
          )}
        </section>
      )}
      <div className="grid grid-cols-2 gap-x-8 gap-y-3 max-lg:grid-cols-1">
        {groups.map((group) => (
          <section key={group.name}>
            <h2 className="heading">{group.name}</h2>
            {group.pages.map((page) => {
              const state = data ? stateOf(page.path, data) : "";
              return (
                <Link
                  key={page.path}
                  to={`/setup/${page.path}${search()}`}
                  className="-mx-1.5 grid grid-cols-[128px_minmax(0,1fr)_auto] gap-3 border-b border-faint px-1.5 py-1 hover:bg-lampsoft max-md:grid-cols-[minmax(0,1fr)_auto]"
                >
                  <b className="font-medium">{page.name}</b>
                  <span className="text-ink2 max-md:col-span-2 max-md:row-start-2">{page.purpose}</span>
                  <span className="figures text-right">{state}</span>
                </Link>
              );
            })}
          </section>
        ))}
      </div>
    </>
  );
}

import { useQuery } from "@tanstack/react-query";
import { contactsQuery, teamsQuery } from "../../api/callingQueries";
import { counted } from "../../components/format";
import { Problem } from "../../components/Problem";
import { OrderedPage } from "../setup/OrderedPage";
import { TeamForm } from "./TeamForm";

/** Who is called together, or in turns. */
export function Teams() {
  const { data: teams, error } = useQuery(teamsQuery);
  const { data: contacts } = useQuery(contactsQuery);
  if (!teams || !contacts) return <Problem error={error} />;
  return (
    <OrderedPage
      title="Teams"
      words="Contacts who are called together, or take turns. Outside its hours a team is not called, and the call plan goes on to its next step at once."
      make="New team"
      rows={teams}
      listed={teamsQuery.queryKey}
      form={(stored, onDone) => <TeamForm {...(stored ? { stored } : {})} contacts={contacts.rows} onDone={onDone} />}
      said={(row) => (
        <p className="text-small text-ink2">
          {row.turn_days
            ? `${counted(row.members.length, "member")} in turns of ${counted(row.turn_days, "day")}`
            : counted(row.members.length, "member")}
          {row.hours && ` · ${row.hours} (${row.zone})`}
          {row.plans.length > 0 && ` · in ${row.plans.join(", ")}`}
        </p>
      )}
      aside={(row) =>
        row.on_duty.length ? (
          <>
            <span className="text-small text-ink2">on duty</span> {row.on_duty.join(", ")}
          </>
        ) : (
          <span className="text-critical">nobody is on duty now</span>
        )
      }
      empty="No teams yet. A call plan can also name contacts themselves."
    />
  );
}

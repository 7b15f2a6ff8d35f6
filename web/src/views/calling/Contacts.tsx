import { useQuery } from "@tanstack/react-query";
import { contactsQuery } from "../../api/callingQueries";
import { Problem } from "../../components/Problem";
import { OrderedPage } from "../setup/OrderedPage";
import { ContactForm } from "./ContactForm";

/** Everybody, and everything, that can be called. */
export function Contacts() {
  const { data, error } = useQuery(contactsQuery);
  if (!data) return <Problem error={error} />;
  const words = (channel: string) => data.channels.find(({ name }) => name === channel)?.words ?? channel;
  return (
    <OrderedPage
      title="Contacts"
      words="People, and systems that receive messages, each with one or several addresses. Teams and call plans name them."
      make="New contact"
      rows={data.rows}
      listed={contactsQuery.queryKey}
      form={(stored, onDone) => (
        <ContactForm {...(stored ? { stored } : {})} channels={data.channels} onDone={onDone} />
      )}
      said={(row) => (
        <>
          {row.addresses.map((address) => (
            <p key={address.id} className="truncate text-small text-ink2">
              {words(address.channel)} <span className="figures">{address.shown}</span>
              {!address.enabled && " · switched off"}
            </p>
          ))}
          {row.addresses.length === 0 && <p className="text-small text-critical">cannot be reached: no address</p>}
        </>
      )}
      aside={(row) => (
        <span className="text-small text-ink2">
          {[...row.teams, ...row.plans].join(", ") || "in no team and no call plan"}
        </span>
      )}
      empty="No contacts yet. Create the first one, then a call plan that names it; rules then call by the plan."
    />
  );
}

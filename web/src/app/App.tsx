import { useQuery } from "@tanstack/react-query";
import { Navigate, Route, Routes } from "react-router";
import { sessionQuery } from "../api/queries";
import { Alarms } from "../views/alarms/Alarms";
import { Fleet } from "../views/fleet/Fleet";
import { Now } from "../views/now/Now";
import { Plan } from "../views/plan/Plan";
import { Setup } from "../views/setup/Setup";
import { Shell } from "./Shell";
import { SignIn } from "./SignIn";

/** The sign-in, or the application behind it. */
export function App() {
  const { data: session, error } = useQuery(sessionQuery);
  if (!session)
    return error ? (
      <p role="alert" className="p-8">
        {error.message} Trying again every two seconds.
      </p>
    ) : null;
  if (!session.user) return <SignIn firstRun={session.first_run} />;
  return (
    <Shell user={session.user}>
      <Routes>
        <Route path="/" element={<Now />} />
        <Route path="/fleet" element={<Fleet />} />
        <Route path="/fleet/:kind/:number" element={<Fleet />} />
        <Route path="/alarms" element={<Alarms />} />
        <Route path="/alarms/:number" element={<Alarms />} />
        <Route path="/plan" element={<Plan />} />
        <Route path="/setup" element={<Setup />} />
        <Route path="/setup/:part" element={<Setup />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
    </Shell>
  );
}

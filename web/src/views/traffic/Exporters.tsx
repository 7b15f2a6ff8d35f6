import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { exportersQuery } from "../../api/trafficQueries";
import { duration } from "../../components/format";
import { useClock } from "../../components/useClock";

const MOST = 30;
const LATE_S = 300;

/** Who sends flow records; those that are not in the inventory first, since nothing of theirs is added up. */
export function Exporters() {
  const now = useClock();
  const { data } = useQuery(exportersQuery);
  if (!data) return null;
  const lost = data.filter((each) => each.lost > 0).length;
  return (
    <>
      <h2 className="heading mt-3">
        Exporters{" "}
        <span className="font-normal text-ink2">
          {data.length}
          {lost > 0 && `, ${lost} with losses`}
        </span>
      </h2>
      {data.length === 0 && <p className="text-ink2">Nobody sends flow records.</p>}
      <ul className="text-small">
        {data.slice(0, MOST).map((each) => {
          const ago = (now - Date.parse(each.last_at)) / 1000;
          return (
            <li key={each.id} className="border-b border-dotted border-rule py-[3px]">
              {each.device_id ? (
                <Link className="underline" to={`/traffic?device=${each.device_id}`}>
                  {each.device}
                </Link>
              ) : (
                <>
                  <b className="font-medium text-critical">{each.address} is not in the inventory</b>{" "}
                  <Link className="underline" to={`/setup/add?address=${encodeURIComponent(each.address)}`}>
                    add it
                  </Link>
                </>
              )}{" "}
              <span className="text-ink2">
                {each.protocol}, {Math.round(each.rate).toLocaleString("en-GB")} records/s
                {ago > LATE_S && `, silent for ${duration(ago)}`}
                {each.lost > 0 && `, ${each.lost.toLocaleString("en-GB")} lost`}
                {each.explained_percent !== null &&
                  `, flows explain ${Math.round(each.explained_percent)} % of what its ports counted`}
                {each.no_template > 0 && `, ${each.no_template.toLocaleString("en-GB")} sets without a template`}
                {Math.abs(each.skew_s) > 30 &&
                  `, its clock is ${duration(Math.abs(each.skew_s))} ${each.skew_s > 0 ? "ahead" : "behind"}`}
                {Object.values(each.sampling).some((rate) => rate > 1) &&
                  `, samples 1 in ${Math.max(...Object.values(each.sampling)).toLocaleString("en-GB")}`}
              </span>
            </li>
          );
        })}
      </ul>
    </>
  );
}

import { percent, perSecond, rate, text } from "../../components/format";
import { EVIDENCE, STATES } from "./MapHover";
import { linkKey, type MapLink } from "./mapGeometry";

const lane = ({ bps, percent: share }: MapLink["there"]) =>
  bps === null ? "–" : `${text(rate(bps))}${share === null ? "" : ` · ${percent(share)} %`}`;

/** The links of the map as a table, for those who would rather read. */
export function MapTable({ links, onPick }: { links: MapLink[]; onPick: (key: string) => void }) {
  return (
    <div className="absolute inset-0 overflow-auto px-4">
      <table className="figures w-full text-small">
        <thead>
          <tr className="text-left text-ink2 *:py-1 *:pr-3 *:font-normal">
            <th>from</th>
            <th>to</th>
            <th>speed</th>
            <th>state</th>
            <th className="text-right">from → to</th>
            <th className="text-right">to → from</th>
            <th className="text-right">errors /s</th>
            <th>known by</th>
          </tr>
        </thead>
        <tbody>
          {links.map((link) => (
            <tr key={linkKey(link)} className="border-t border-faint hover:bg-lampsoft *:py-[3px] *:pr-3">
              <td>
                <button
                  type="button"
                  data-row
                  className="text-left hover:underline"
                  onClick={() => onPick(linkKey(link))}
                >
                  <b className="font-medium">{link.a.device}</b> {link.a.name || link.a.label}
                </button>
              </td>
              <td>
                <b className="font-medium">{link.b.device}</b> {link.b.name || link.b.label}
              </td>
              <td>{link.speed_bps ? text(rate(link.speed_bps)) : "–"}</td>
              <td>{STATES[link.state]}</td>
              <td className="text-right">{lane(link.there)}</td>
              <td className="text-right">{lane(link.back)}</td>
              <td className="text-right">
                {link.error_rate === null ? "–" : link.error_rate && perSecond(link.error_rate)}
              </td>
              <td>
                {EVIDENCE[link.evidence]}
                {link.contradiction && <span className="text-critical">, but {link.contradiction}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

import { useQuery } from "@tanstack/react-query";
import { count } from "../model/format";
import { ask } from "../model/service";
import type { Unresolved } from "../model/types";
import { ExportMenu } from "../part/ExportMenu";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { Waiting } from "../ui/States";

/** What could not be joined, by probable reason, with what to do about each. */
export default function UnresolvedPage() {
  const { search } = useAddress();
  const { data, error } = useQuery({
    queryKey: ["unresolved", search.to],
    queryFn: ({ signal }) => ask<Unresolved>("/unresolved", { at: search.to }, { signal }),
  });
  if (!data) return <Waiting error={error} />;
  const file = () => [
    ["reason", "object", "name", "wants", "detail"],
    ...data.groups.flatMap((g) => g.findings.map((f) => [g.reason, f.object, f.name, f.wants ?? null, f.detail])),
  ];
  return (
    <div className="pb-10">
      <Heading
        title="Unresolved"
        about="what could not be joined"
        statement={
          <p className="text-[14px]">
            {data.total === 0
              ? "Everything is joined: no identifier and no link leads nowhere."
              : `${count(data.total, "thing leads", "things lead")} nowhere, for ${count(data.groups.length, "probable reason", "probable reasons")}. Until it is put right, the map ends there.`}
          </p>
        }
      >
        {data.total > 0 && <ExportMenu name="unresolved" rows={file} />}
      </Heading>
      <ul className="mt-4 px-6">
        {data.groups.map((g) => (
          <li
            key={g.reason + g.about}
            className="grid grid-cols-[180px_1fr] gap-x-8 border-t border-line py-5 max-[900px]:grid-cols-1"
          >
            <div>
              <h2 className="text-[14px] font-semibold first-letter:uppercase">{g.reason}</h2>
              <p className="text-[12px] text-quiet">{count(g.count, "finding", "findings")}</p>
            </div>
            <div className="max-w-[820px]">
              <p className="text-[14px]">{g.says}</p>
              <p className="mt-1 text-quiet">{g.todo}</p>
              <ul className="mt-3 text-[12.5px]">
                {g.findings.slice(0, 12).map((f) => (
                  <li
                    key={f.object + f.detail}
                    className="grid grid-cols-[minmax(150px,220px)_1fr] gap-x-4 border-t border-line py-1.5"
                  >
                    <PageLink plain page="section" of={f.object} className="truncate font-medium hover:underline">
                      {f.name}
                    </PageLink>
                    <span className="text-quiet">{f.detail}</span>
                  </li>
                ))}
              </ul>
              {g.count > 12 && (
                <p className="mt-2 text-[12px] text-quiet">
                  {(g.count - 12).toLocaleString("en-GB")} more of this kind.
                </p>
              )}
            </div>
          </li>
        ))}
      </ul>
    </div>
  );
}

import type { Explanation } from "../model/types";
import { Answer, FindKey } from "../part/Answer";
import { ExplanationView } from "../part/ExplanationView";
import { Heading } from "../part/Heading";
import { useAddress } from "../ui/address";
import { PageLink } from "../ui/Button";
import { useAsk } from "../ui/useAsk";
import { kindWords } from "./SectionPage";

/** Why an object is slow, as a colleague would write it down. */
export default function ExplainPage() {
  const { search } = useAddress();
  const query = useAsk<Explanation>("/explain", search);
  const words = (
    <>
      Press <FindKey /> and choose the VM somebody complains of. You will read what hurt and since when, where it
      arises, who did it or that nobody did, and how sure that is.
    </>
  );
  return (
    <Answer of={search.of} query={query} empty={{ title: "Who complains?", words }}>
      {(x) => (
        <div className="pb-12">
          <Heading title={x.name} about={kindWords(x.kind)}>
            <PageLink page="strata">Strata</PageLink>
            {x.verdict.component && (
              <PageLink page="suspects" of={x.verdict.component.ref}>
                Suspects
              </PageLink>
            )}
            <PageLink page="section">Section</PageLink>
          </Heading>
          <ExplanationView x={x} />
        </div>
      )}
    </Answer>
  );
}

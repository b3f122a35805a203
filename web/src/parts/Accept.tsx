/** Whether somebody accepted a link, or the network, and still does; and accepting it, with a remark. */
import { Fragment, useId, useState } from "react";
import { http, sent } from "../api/client";
import { tellUndoable, useAcceptances, useAsk } from "../api/queries";
import { Actions, Button, Heading, Quiet } from "../kit";
import { Await } from "../kit/await";

const WHO = "lantern-accepts"; // who accepted last on this machine

export function Accept({ id, link, what, why = "" }: { id: string; link: string | null; what: string; why?: string }) {
  return (
    <>
      <Heading>Acceptance</Heading>
      <Await of={[useAcceptances(id)]} what="what was accepted">
        <Own key={link ?? "network"} id={id} link={link} what={what} why={why} />
      </Await>
    </>
  );
}

function Own({ id, link, what, why }: { id: string; link: string | null; what: string; why: string }) {
  const last = useAcceptances(id).data!.find((a) => a.link === link);
  const [remark, setRemark] = useState("");
  const [name, setName] = useState(() => localStorage.getItem(WHO) ?? "");
  const field = useId();
  const accept = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/acceptances", {
          params: { path: { project_id: id } },
          body: { link, remark, name },
        }),
      ),
    () => {
      setRemark("");
      localStorage.setItem(WHO, name);
      void tellUndoable(id, `Accepted ${what}.`);
    },
  );
  const withdraw = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/acceptances/{acceptance_id}/withdraw", {
        params: { path: { project_id: id, acceptance_id: last!.id } },
        body: { version: last!.version },
      }),
    ),
  );
  const when = last && new Date(last.at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });
  return (
    <>
      {last && (
        <div className={`my-1.5 border-l-4 pl-2 text-[13.5px] ${last.stands ? "border-taut" : "border-slack"}`}>
          <p>
            {last.stands ? "Accepted" : "No longer accepted"}: {last.by}, {when}.
          </p>
          {last.remark && <p>“{last.remark}”</p>}
          {!last.stands && <p className="text-slack">Since then {last.why}.</p>}
        </div>
      )}
      {!last && (
        <Quiet>Nobody has accepted {what} yet. Whatever changes later withdraws an acceptance by itself.</Quiet>
      )}
      {!last?.stands && (
        <div className="my-1 grid grid-cols-[auto_1fr] items-center gap-x-2 gap-y-1 text-[13.5px]">
          {(
            [
              ["Name", name, setName, 120],
              ["Remark", remark, setRemark, 1000],
            ] as const
          ).map(([label, value, set, most]) => (
            <Fragment key={label}>
              <label htmlFor={field + label}>{label}</label>
              <input
                id={field + label}
                value={value}
                maxLength={most}
                autoComplete="off"
                onChange={(e) => set(e.target.value)}
                className="min-w-0 rounded border border-rule bg-card px-1.5 py-0.5 text-[13px]"
              />
            </Fragment>
          ))}
        </div>
      )}
      <Actions>
        {last?.stands ? (
          <Button busy={withdraw.isPending} onClick={() => withdraw.mutate(undefined)}>
            Withdraw the acceptance
          </Button>
        ) : (
          <Button
            busy={accept.isPending}
            onClick={() => accept.mutate(undefined)}
            why={why || (name.trim() ? "" : "say who accepts it: the report names you")}
          >
            Accept {what}
          </Button>
        )}
      </Actions>
    </>
  );
}

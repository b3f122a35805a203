/** Groups: made of chosen stations, put one into another, merged, dissolved; held as one, or free. */
import { useState } from "react";
import { http, sent, type Group, type Station } from "../../api/client";
import { tellUndoable, useAsk, useGroups } from "../../api/queries";
import { Actions, Button, Field, Heading, Pick, Quiet, Sentence } from "../../kit";
import { stationsUnder, within } from "../../kit/groups";
import { useView } from "../../kit/view";

/** The group whose line of the roster is chosen. */
export function useChosenGroup(id: string): Group | null {
  const { group, stations } = useView();
  const groups = useGroups(id).data ?? [];
  const chosen = groups.find((g) => g.id === group);
  if (!chosen) return null;
  const own = stationsUnder(groups, chosen.id);
  return stations.length && stations.every((x) => own.includes(x)) ? chosen : null;
}

interface Change {
  name?: string;
  parent?: string;
  held?: boolean;
}
const count = (n: number) => `${n} ${n === 1 ? "station" : "stations"}`;
const one = (stations: Station[]) => new Set(stations.map((s) => s.part)).size === 1;
const HELD =
  "Held as one, it keeps its shape as it stands now: use it for what was proved before, or came in already tied.";

export function GroupCard({ id, group, stations }: { id: string; group: Group; stations: Station[] }) {
  const groups = useGroups(id).data ?? [];
  const own = new Set(stationsUnder(groups, group.id));
  const inside = stations.filter((s) => own.has(s.id));
  const within_ = within(groups, group.id);
  const others = groups.filter((g) => !within_.includes(g));
  const [other, setOther] = useState("");
  const path = { project_id: id, group_id: group.id };
  const change = useAsk(id, (c: Change) =>
    sent(
      http.PATCH("/api/projects/{project_id}/groups/{group_id}", {
        params: { path },
        body: { version: group.version, ...c },
      }),
    ),
  );
  const merge = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/groups/{group_id}/merge", {
          params: { path },
          body: { version: group.version, other },
        }),
      ),
    () => setOther(""),
  );
  const dissolve = useAsk(
    id,
    () =>
      sent(
        http.DELETE("/api/projects/{project_id}/groups/{group_id}", {
          params: { path, query: { version: group.version } },
        }),
      ),
    () => {
      useView.getState().set({ group: null, stations: [] });
      void tellUndoable(id, `Dissolved the group ${group.name}.`);
    },
  );
  const merged = others.find((g) => g.id === other);
  const around = (g: Group) => within(groups, g.id).some((x) => x.id === group.id);
  const parts = new Set(inside.map((s) => s.part)).size;
  return (
    <>
      <Sentence>
        {group.name}: {count(inside.length)}
        {group.held ? ", held as one." : parts > 1 ? ` in ${parts} parts of the network.` : "."}
      </Sentence>
      <Quiet>{HELD}</Quiet>
      <Actions>
        {group.held ? (
          <Button busy={change.isPending} onClick={() => change.mutate({ held: false })}>
            Release
          </Button>
        ) : (
          <Button
            busy={change.isPending}
            onClick={() => change.mutate({ held: true })}
            why={
              inside.length < 2 ? "it needs two stations" : parts > 1 ? "they are of several parts: tie them first" : ""
            }
          >
            Hold as one
          </Button>
        )}
        <Button busy={dissolve.isPending} onClick={() => dissolve.mutate(undefined)}>
          Dissolve the group
        </Button>
      </Actions>
      <Heading>Where it belongs</Heading>
      <Field
        key={group.name}
        label="Name"
        type="text"
        className="!w-44"
        defaultValue={group.name}
        maxLength={110}
        onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        onBlur={(e) => {
          const name = e.target.value.trim();
          if (name && name !== group.name) change.mutate({ name });
        }}
      />
      <Pick
        label="Lies in"
        value={group.parent ?? ""}
        options={[["", "no other group"], ...others.map((g): [string, string] => [g.id, g.name])]}
        onChange={(e) => change.mutate({ parent: e.target.value })}
      />
      <Pick
        label="Merge with"
        value={other}
        options={[
          ["", "choose a group"],
          ...others.filter((g) => !around(g)).map((g): [string, string] => [g.id, g.name]),
        ]}
        onChange={(e) => setOther(e.target.value)}
      />
      <Actions>
        <Button
          busy={merge.isPending}
          onClick={() => merge.mutate(undefined)}
          why={merged ? "" : "choose the group that comes into it"}
        >
          {merged ? `Merge ${merged.name} into ${group.name}` : "Merge"}
        </Button>
      </Actions>
      <Quiet>
        To split it, choose some of its stations and make a group of them. Stations are put into a group by dragging
        them onto it in the roster.
      </Quiet>
    </>
  );
}

/** What several chosen stations can be made: a group, part of one, one body. */
export function Grouping({ id, stations }: { id: string; stations: Station[] }) {
  const groups = useGroups(id).data ?? [];
  const [name, setName] = useState("");
  const ids = stations.map((s) => s.id);
  const inOne = groups.filter((g) => g.held && stationsUnder(groups, g.id).some((x) => ids.includes(x)));
  const make = useAsk(
    id,
    (held: boolean) =>
      sent(
        http.POST("/api/projects/{project_id}/groups", {
          params: { path: { project_id: id } },
          body: { stations: ids, name, held },
        }),
      ),
    (made: { id: string }) => useView.getState().set({ group: made.id }),
  );
  const put = useAsk(id, (group: string) =>
    sent(
      http.POST("/api/projects/{project_id}/groups/put", {
        params: { path: { project_id: id } },
        body: { stations: ids, group },
      }),
    ),
  );
  const grouped = groups.some((g) => g.stations.some((x) => ids.includes(x)));
  return (
    <>
      <Heading>Group</Heading>
      <Field
        label="Name"
        type="text"
        className="!w-44"
        placeholder={`${stations[0]?.name} to ${stations.at(-1)?.name}`}
        value={name}
        maxLength={110}
        onChange={(e) => setName(e.target.value)}
      />
      <Actions>
        <Button busy={make.isPending} onClick={() => make.mutate(false)}>
          Make a group of these {stations.length}
        </Button>
        <Button
          busy={make.isPending}
          onClick={() => make.mutate(true)}
          why={
            inOne.length
              ? `${inOne[0]!.name} is held: release it first`
              : one(stations)
                ? ""
                : "they are of several parts: tie them first"
          }
        >
          Hold these {stations.length} as one
        </Button>
      </Actions>
      {(groups.length > 0 || grouped) && (
        <Pick
          label="Put into"
          value="-"
          options={[
            ["-", "choose a group"],
            ...(grouped ? [["", "no group"] as [string, string]] : []),
            ...groups.map((g): [string, string] => [g.id, g.name]),
          ]}
          onChange={(e) => e.target.value !== "-" && put.mutate(e.target.value)}
        />
      )}
      <Quiet>{HELD}</Quiet>
    </>
  );
}

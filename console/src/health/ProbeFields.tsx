import { Button, SegmentedControl, Select, Textarea, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import type { Probe, ProbeKind } from "../api/types";
import { NumberField } from "../parts/NumberField";
import { Trouble } from "../parts/Trouble";
import { ProbeState } from "./ProbeState";
import { newProbe, probeKinds, wordsOf } from "./probeWords";
import { useLook } from "./useProbes";

/** What agents look at, how often, what helps, and what they find now. */
export function ProbeFields({
  probe,
  limits,
  on,
  onProbe,
  onLimits,
}: {
  probe: Probe;
  limits: string;
  on: string | undefined;
  onProbe: (probe: Probe) => void;
  onLimits: (limits: string) => void;
}) {
  const words = wordsOf(probe.kind);
  const change = (part: Partial<Probe>) => onProbe({ ...probe, ...part });
  const Text = words.text?.lines ? Textarea : TextInput;
  return (
    <>
      <Select
        label="What has to be so"
        data={probeKinds.map((k) => ({ value: k.kind, label: k.label }))}
        value={probe.kind}
        onChange={(v) => {
          onProbe(newProbe(v as ProbeKind));
          onLimits(v === "certificate" ? "left < 14 d" : "");
        }}
        allowDeselect={false}
      />
      {words.target && (
        <TextInput
          label={words.target}
          placeholder={words.example}
          classNames={{ input: "mono" }}
          value={probe.target}
          onChange={(e) => change({ target: e.currentTarget.value })}
        />
      )}
      {words.text && (
        <Text
          label={words.text.label + (words.text.needed ? "" : ", if any")}
          placeholder={words.text.example}
          classNames={{ input: "mono" }}
          {...(words.text.lines ? { autosize: true, minRows: 3 } : {})}
          value={probe.text ?? ""}
          onChange={(e) => change({ text: e.currentTarget.value })}
        />
      )}
      {words.needs && <p className="muted fine">{words.needs}</p>}
      {words.limits && (
        <TextInput
          label="Or past these limits"
          description={`Its figures may have limits too, for example: ${words.limits}. Left empty: none.`}
          classNames={{ input: "mono" }}
          value={limits}
          onChange={(e) => onLimits(e.currentTarget.value)}
        />
      )}
      <div className="beside">
        <NumberField
          label="Every … s"
          min={10}
          value={probe.everySeconds}
          onChange={(everySeconds) => change({ everySeconds })}
        />
        <NumberField
          label="Within … s"
          min={1}
          max={300}
          value={probe.timeoutSeconds}
          onChange={(timeoutSeconds) => change({ timeoutSeconds })}
        />
        <NumberField
          label="Grace after a start, s"
          min={0}
          max={3600}
          value={probe.graceSeconds}
          onChange={(graceSeconds) => change({ graceSeconds })}
        />
      </div>
      <div>
        <SegmentedControl
          aria-label="What the agent does when it has failed"
          data={[
            { value: "none", label: "only tell" },
            ...(probe.kind === "service" ? [{ value: "restart", label: "start it again" }] : []),
            { value: "script", label: "run a script" },
          ]}
          value={probe.act}
          onChange={(v) => change({ act: v as Probe["act"], actScript: null })}
        />
        {probe.act !== "none" && (
          <p className="muted fine">
            Three times an hour at most; what it did stands in the host’s time line. The hosts have to allow commands.
          </p>
        )}
      </div>
      {probe.act === "script" && (
        <Textarea
          label="The script that helps"
          classNames={{ input: "mono" }}
          autosize
          minRows={2}
          value={probe.actScript ?? ""}
          onChange={(e) => change({ actScript: e.currentTarget.value })}
        />
      )}
      <LookNow probe={probe} limits={limits} on={on} />
    </>
  );
}

/** What hosts find now; nothing is done about it. */
function LookNow({ probe, limits, on }: { probe: Probe; limits: string; on: string | undefined }) {
  const look = useLook();
  const [where, setWhere] = useState<string>();
  const bad = look.data?.filter((l) => l.bad).length ?? 0;
  return (
    <>
      <div className="trial">
        <TextInput
          aria-label="Hosts that look now, as a selection"
          placeholder="hosts, as a selection"
          classNames={{ input: "mono" }}
          value={where ?? on ?? ""}
          onChange={(e) => setWhere(e.currentTarget.value)}
        />
        <Button
          variant="default"
          size="compact-sm"
          loading={look.isPending}
          onClick={() => look.mutate({ probe, on: where ?? on ?? "", when: limits })}
        >
          Look once, now
        </Button>
        <span role="status">
          {look.data &&
            `It would be bad on ${bad} of ${look.data.length} ${look.data.length === 1 ? "host" : "hosts"}.`}
        </span>
      </div>
      <Trouble error={look.error} />
      {look.data && (
        <ul className="history trial-times">
          {[...look.data]
            .sort((a, b) => Number(b.bad) - Number(a.bad))
            .slice(0, 8)
            .map((l) => (
              <li key={l.hostId}>
                <ProbeState state={l.state} past={l.past} /> <Link to={`/hosts/${l.hostId}`}>{l.label}</Link>{" "}
                <span className="muted">{l.says}</span>
              </li>
            ))}
          {look.data.length > 8 && <li className="muted">and {look.data.length - 8} more</li>}
        </ul>
      )}
    </>
  );
}

import { Button, Modal, SegmentedControl } from "@mantine/core";
import { useState } from "react";
import type { DeliveryInfo, DeliveryState, NoticeInfo } from "../api/types";
import { Ago } from "../parts/Ago";
import { minute } from "../parts/time";
import { Empty, Trouble } from "../parts/Trouble";
import { deliveryWords } from "./noticeWords";
import { useDeliveries, useDelivery, useDeliveryAct } from "./useNotices";

/** What notices sent; what did not arrive is sent again or forgotten from here. */
export function Deliveries({
  notices,
  mayChange,
}: {
  notices: NoticeInfo[];
  mayChange: (notice: NoticeInfo) => boolean;
}) {
  const [state, setState] = useState<DeliveryState | "all">("all");
  const [reading, setReading] = useState<DeliveryInfo>();
  const deliveries = useDeliveries(undefined, state === "all" ? undefined : state);
  const act = useDeliveryAct();
  if (notices.length === 0) return null;
  return (
    <section aria-labelledby="sent-title" style={{ marginTop: 22 }}>
      <div className="page-head" style={{ marginBottom: 8 }}>
        <h2 id="sent-title">What was sent</h2>
        <SegmentedControl
          size="xs"
          aria-label="Which of it"
          value={state}
          onChange={(v) => setState(v as DeliveryState | "all")}
          data={[
            { value: "all", label: "All" },
            { value: "waiting", label: "On the way" },
            { value: "failed", label: "Given up" },
          ]}
        />
      </div>
      <Trouble error={deliveries.error ?? act.error} />
      {deliveries.data?.length === 0 && (
        <Empty
          title={
            state === "failed"
              ? "Nothing was given up"
              : state === "waiting"
                ? "Nothing is on its way"
                : "Nothing was sent yet"
          }
        >
          {state === "failed"
            ? "What does not arrive for a whole day stands here, until somebody has it sent again or forgets it."
            : "It stands here as soon as an alert is told, or somebody tries a notice."}
        </Empty>
      )}
      <div className="rows">
        {deliveries.data?.map((d) => {
          const notice = notices.find((n) => n.id === d.noticeId);
          const mine = notice !== undefined && mayChange(notice);
          return (
            <div key={d.id} className="row delivery-row">
              <span className="muted">
                <Ago time={d.createdAt} />
              </span>
              <span className="check-rule">
                {mine ? (
                  <button type="button" className="link" onClick={() => setReading(d)}>
                    {d.subject}
                  </button>
                ) : (
                  <span>{d.subject}</span>
                )}
                <span className="muted wrap">
                  {d.notice}, to {d.to}
                </span>
                {d.problem && <span className="trouble wrap">{d.problem}</span>}
              </span>
              <span>
                {deliveryWords(d)}
                {d.nextAt && d.attempts > 0 && <div className="muted">again at {minute(d.nextAt)}</div>}
              </span>
              <span className="acts">
                {mine && d.state !== "delivered" && (
                  <>
                    <Button
                      size="compact-sm"
                      variant="default"
                      aria-label={`Send again: ${d.subject}`}
                      onClick={() => act.mutate({ act: "resend", ids: [d.id] })}
                    >
                      Send again
                    </Button>
                    <Button
                      size="compact-sm"
                      variant="subtle"
                      color="gray"
                      aria-label={`Forget: ${d.subject}`}
                      onClick={() => act.mutate({ act: "drop", ids: [d.id] })}
                    >
                      Forget
                    </Button>
                  </>
                )}
              </span>
            </div>
          );
        })}
      </div>
      {reading && <Reading of={reading} onClose={() => setReading(undefined)} />}
    </section>
  );
}

function Reading({ of, onClose }: { of: DeliveryInfo; onClose: () => void }) {
  const delivery = useDelivery(of.id);
  return (
    <Modal opened onClose={onClose} title={of.subject} size="xl">
      <div className="stack">
        <Trouble error={delivery.error} />
        {delivery.data?.body && (
          <pre className="output" tabIndex={0} aria-label="What it says">
            {delivery.data.way === "hook" ? pretty(delivery.data.body) : delivery.data.body}
          </pre>
        )}
      </div>
    </Modal>
  );
}

const pretty = (json: string) => JSON.stringify(JSON.parse(json), null, 2);

import { Button, Menu, Modal } from "@mantine/core";
import { useState } from "react";
import { useMe } from "../access/useMay";
import type { NoticeInfo, NoticeMade } from "../api/types";
import { useGroups } from "../estate/useGroups";
import { Ago } from "../parts/Ago";
import { CopyLine } from "../parts/CopyLine";
import { Empty, Trouble } from "../parts/Trouble";
import { Deliveries } from "./Deliveries";
import { MailPanel } from "./MailPanel";
import { NoticeEditor } from "./NoticeEditor";
import { noticeOf, noticeTo, noticeWhen, noticeWish } from "./noticeWords";
import { NewRule, RuleLocked } from "./RuleActs";
import { RulesTabs } from "./RulesTabs";
import { SeverityMark } from "./severity";
import { useKeepNotice, useNotices, useRemoveNotice, useRenewSecret, useTryNotice } from "./useNotices";

type Open = { act: "new" } | { act: "change" | "remove"; notice: NoticeInfo };

/** Who is told of alerts, and what became of what was sent. */
export function NoticesPage() {
  const notices = useNotices();
  const { groups } = useGroups();
  const me = useMe();
  const [open, setOpen] = useState<Open>();
  const [made, setMade] = useState<NoticeMade>();
  const mine = groups.filter((g) => g.may.includes("configure"));
  const mayEverywhere = me?.everywhere.includes("configure") ?? false;
  const mayChange = (n: NoticeInfo) => (n.groupId ? mine.some((g) => g.id === n.groupId) : mayEverywhere);
  const close = () => setOpen(undefined);
  const kept = (result: NoticeMade) => {
    close();
    if (result.secret) setMade(result);
  };
  return (
    <main className="page">
      <div className="page-head">
        <h1>Rules</h1>
        <RulesTabs />
        <NewRule groups={groups} onClick={() => setOpen({ act: "new" })}>
          New notice …
        </NewRule>
      </div>
      <Trouble error={notices.error} />
      {notices.data?.length === 0 && (
        <Empty title="Nobody is told of anything">
          {mine.length > 0
            ? "Alerts are shown under Now, and nowhere else. Make a notice to have a mail or a web hook tell of them."
            : "Alerts are shown under Now, and nowhere else. Whoever may configure a place makes notices for it."}
        </Empty>
      )}
      <div className="rows">
        {notices.data?.map((n) => (
          <NoticeRow
            key={n.id}
            notice={n}
            mayChange={mayChange(n)}
            onOpen={(act) => setOpen({ act, notice: n })}
            onSecret={setMade}
          />
        ))}
      </div>
      <Deliveries notices={notices.data ?? []} mayChange={mayChange} />
      <MailPanel lead={me?.everywhere.includes("administer") ?? false} />
      {open?.act === "new" && (
        <NoticeEditor groups={mine} mayEverywhere={mayEverywhere} onDone={kept} onClose={close} />
      )}
      {open?.act === "change" && (
        <NoticeEditor notice={open.notice} groups={mine} mayEverywhere={mayEverywhere} onDone={kept} onClose={close} />
      )}
      {open?.act === "remove" && <Remove notice={open.notice} onClose={close} />}
      {made?.secret && (
        <Modal opened onClose={() => setMade(undefined)} title={`The secret of ${made.notice.name}`} size="lg">
          <div className="stack">
            <p style={{ margin: 0 }}>
              What this web hook gets is signed with it (HTTP Message Signatures, RFC 9421, HMAC-SHA-256). Give it to
              the receiver now: it is not shown again.
            </p>
            <CopyLine label="Secret, in base 64" text={made.secret} />
          </div>
        </Modal>
      )}
    </main>
  );
}

function NoticeRow({
  notice,
  mayChange,
  onOpen,
  onSecret,
}: {
  notice: NoticeInfo;
  mayChange: boolean;
  onOpen: (act: "change" | "remove") => void;
  onSecret: (made: NoticeMade) => void;
}) {
  const attempt = useTryNotice();
  const keep = useKeepNotice(notice, () => undefined);
  const renew = useRenewSecret(onSecret);
  const tried = attempt.data;
  return (
    <div className="row notice-row">
      <span className="host-name">
        <b>{notice.name}</b>
        <span>
          {notice.way === "mail" ? "mail" : "web hook"} · by {notice.createdBy}
        </span>
      </span>
      <span className="check-rule">
        <span className={notice.way === "hook" ? "mono wrap" : "wrap"}>{noticeTo(notice)}</span>
        <span className="muted">
          <SeverityMark severity={notice.atLeast} /> {noticeOf(notice)}
        </span>
        <span className="muted">{noticeWhen(notice)}</span>
        {notice.trouble && <span className="trouble">{notice.trouble}</span>}
        <span role="status">
          {tried &&
            (tried.state === "delivered"
              ? `A trial has arrived at ${tried.to}.`
              : `A trial has not arrived: ${tried.problem ?? ""}`)}
        </span>
        <Trouble error={attempt.error ?? keep.error ?? renew.error} />
      </span>
      <span className="muted">
        {notice.lastArrivedAt ? (
          <>
            last arrived <Ago time={notice.lastArrivedAt} />
          </>
        ) : (
          "nothing sent yet"
        )}
        {notice.waiting > 0 && <div>{notice.waiting} on the way</div>}
        {notice.failed > 0 && <div className="trouble">{notice.failed} given up</div>}
      </span>
      <span className="acts">
        {!mayChange && <RuleLocked groupId={notice.groupId} />}
        {mayChange && (
          <>
            <Button
              size="compact-sm"
              variant="default"
              aria-label={`Try ${notice.name}`}
              loading={attempt.isPending}
              onClick={() => attempt.mutate(notice.id)}
            >
              Try it
            </Button>
            <Menu position="bottom-end" shadow="md">
              <Menu.Target>
                <Button size="compact-sm" variant="subtle" color="gray" aria-label={`More about ${notice.name}`}>
                  More
                </Button>
              </Menu.Target>
              <Menu.Dropdown>
                <Menu.Item onClick={() => onOpen("change")}>Change {notice.name} …</Menu.Item>
                <Menu.Item onClick={() => keep.mutate({ ...noticeWish(notice), off: !notice.off })}>
                  {notice.off ? `Have ${notice.name} tell again` : `Have ${notice.name} tell nobody for now`}
                </Menu.Item>
                {notice.way === "hook" && (
                  <Menu.Item onClick={() => renew.mutate(notice.id)}>Make another secret for {notice.name}</Menu.Item>
                )}
                <Menu.Item onClick={() => onOpen("remove")}>Remove {notice.name} …</Menu.Item>
              </Menu.Dropdown>
            </Menu>
          </>
        )}
      </span>
    </div>
  );
}

function Remove({ notice, onClose }: { notice: NoticeInfo; onClose: () => void }) {
  const remove = useRemoveNotice(onClose);
  return (
    <Modal opened onClose={onClose} title={`Remove ${notice.name}`}>
      <div className="stack">
        <p style={{ margin: 0 }}>It tells nobody any more, and what it has not sent yet goes with it.</p>
        <Trouble error={remove.error} />
        <Button color="red" variant="filled" loading={remove.isPending} onClick={() => remove.mutate(notice.id)}>
          {`Remove ${notice.name}`}
        </Button>
      </div>
    </Modal>
  );
}

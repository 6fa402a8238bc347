import type { HostSummary } from "../api/types";
import { HostPanel } from "../sessions/HostPanel";
import { FileBrowser } from "./FileBrowser";

/** The files of a host. */
export const FilesPanel = ({ host }: { host: HostSummary }) => (
  <HostPanel
    host={host}
    title="Files"
    id="files-title"
    permission="read-files"
    ask={`Look at the files of ${host.label}`}
    act="shows its files"
  >
    {(proof) => <FileBrowser host={host} proof={proof} />}
  </HostPanel>
);

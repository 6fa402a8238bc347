import type { Permission } from "../api/types";
import { Empty } from "../parts/Trouble";
import { useMe } from "./useMay";

/** A page for those who may do something; the others are told what it takes and who could give it. */
export function PageNeeds({
  permission,
  everywhere = false,
  title,
  tabs,
  children,
}: {
  permission: Permission;
  everywhere?: boolean;
  title: string;
  tabs: React.ReactNode;
  children: React.ReactNode;
}) {
  const me = useMe();
  if (!me || (everywhere ? me.everywhere : me.anywhere).includes(permission)) return children;
  return (
    <main className="page">
      <div className="page-head">
        <h1>{title}</h1>
        {tabs}
      </div>
      <Empty title={`This takes the permission “${permission}”${everywhere ? " on everything" : ""}`}>
        None of your grants holds it{everywhere ? " there" : " anywhere"}. {me.canChange.join(", ")} can change that.
      </Empty>
    </main>
  );
}

import { Link } from "react-router";
import { Empty } from "../parts/Trouble";

/** The first thing to do with a new service. */
export const NoHostYet = () => (
  <Empty title="No host has joined yet">
    Make an installer under <Link to="/join">Join</Link> and run its one line on a computer.
  </Empty>
);

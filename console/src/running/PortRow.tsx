import type { Port } from '../api/types';
import { CELL, MONO } from '../shared/Table';
import { RouteLinks } from './RouteLinks';

/** A port on which something listens. */
export function PortRow({ port }: { port: Port }) {
  const { process } = port;
  const couldHaveOne =
    !port.own && port.app == null && port.container == null && port.protocol === 'http';
  return (
    <tr data-port={port.port}>
      <td className={MONO}>{port.port}</td>
      <td className={CELL}>
        {port.protocol}
        {port.title != null && <span className="text-muted"> “{port.title}”</span>}
      </td>
      <td className={CELL}>
        {port.container != null && <span>container {port.container} </span>}
        {process == null ? <span className="text-muted">of {port.user}</span> : process.command}
        {process != null && <span className="text-muted"> ({process.pid})</span>}
      </td>
      <td className={`${MONO} break-all text-muted`}>{process?.folder}</td>
      <td className={CELL}>
        {port.own ? (
          <span className="text-muted">Bent Lane</span>
        ) : (
          <>
            {port.app != null && <p>app {port.app}</p>}
            <RouteLinks
              routes={port.routes.map((address) => ({ address }))}
              target={couldHaveOne ? String(port.port) : undefined}
            />
          </>
        )}
      </td>
      <td className={CELL} />
    </tr>
  );
}

import { pagePath, routePath } from '../state/place';

interface RouteLinksProps {
  routes: readonly { address: string; of_label?: boolean }[];
  /** The target of a route to this, where it could have one. */
  target?: string;
}

/** The routes that lead to an app, a container or a port, or the way to give it one. */
export function RouteLinks({ routes, target }: RouteLinksProps) {
  if (routes.length === 0 && target !== undefined) {
    return (
      <a className="underline underline-offset-4" href={pagePath('routes', { add: target })}>
        Add a route
      </a>
    );
  }
  return routes.map((route) => (
    <p key={route.address}>
      <a className="underline-offset-4 hover:underline" href={routePath(route.address)}>
        {route.address}
      </a>
      {route.of_label === true && <span className="text-muted"> by its label</span>}
    </p>
  ));
}

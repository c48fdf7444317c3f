import { CopyLine } from '../shared/CopyLine';
import type { Collision } from './collisions';

/** Ports that more than one wants, and the way out. */
export function Collisions({ collisions }: { collisions: readonly Collision[] }) {
  if (collisions.length === 0) return null;
  return (
    <section
      aria-label="Collisions"
      className="mb-4 rounded-md border border-l-4 border-rule border-l-amber bg-card px-3 py-2 text-[14px]"
    >
      <h2 className="font-semibold">A port is wanted more than once</h2>
      <ul>
        {collisions.map(({ port, who }) => (
          <li key={port}>
            <span className="font-mono">{port}</span>: {who.join(' and ')}
          </li>
        ))}
      </ul>
      <p className="mt-1">Give one of them another port:</p>
      <CopyLine text="bentlane app edit NAME --unset port" />
    </section>
  );
}

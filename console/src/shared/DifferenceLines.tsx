/** Lines that go and come, each with `-` or `+` before it. */
export function DifferenceLines({ lines }: { lines: readonly string[] }) {
  if (lines.length === 0) return null;
  return (
    <ul className="mt-1 font-mono text-[13px]">
      {lines.map((line, at) => (
        <li
          key={at}
          className={`break-all whitespace-pre-wrap ${line.startsWith('-') ? 'text-vermilion' : 'text-teal'}`}
        >
          {line.charAt(0)} {line.slice(1)}
        </li>
      ))}
    </ul>
  );
}

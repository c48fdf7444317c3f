/** A text of the service, in which code is between backticks. */
export function Prose({ text }: { text: string }) {
  return text.split('`').map((part, index) =>
    index % 2 === 0 ? (
      part
    ) : (
      <code key={index} className="font-mono text-[0.93em]">
        {part}
      </code>
    ),
  );
}

import Markdown from "react-markdown";

/** What somebody wrote, as Markdown: HTML of theirs as the text that it is, no pictures, and links that tell nobody where they were followed. */
export function Said({ children }: { children: string }) {
  return (
    <div className="said">
      <Markdown
        disallowedElements={["img"]}
        components={{
          a: ({ href, children }) => (
            <a href={href} target="_blank" rel="noreferrer noopener nofollow">
              {children}
            </a>
          ),
        }}
      >
        {children}
      </Markdown>
    </div>
  );
}

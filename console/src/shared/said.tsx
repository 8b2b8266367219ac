import Markdown from "react-markdown";

/** A comment as Markdown: HTML in it is shown as text, there are no pictures, and links send no referrer. */
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

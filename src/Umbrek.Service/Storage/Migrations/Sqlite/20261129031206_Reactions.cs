using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Reactions : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Reactions",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    NameKey = table.Column<string>(type: "TEXT", nullable: false),
                    Check = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    ScriptId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Number = table.Column<int>(type: "INTEGER", nullable: true),
                    Values = table.Column<string>(type: "TEXT", nullable: false),
                    WaitSeconds = table.Column<double>(type: "REAL", nullable: false),
                    SpacingSeconds = table.Column<double>(type: "REAL", nullable: false),
                    UsesVault = table.Column<bool>(type: "INTEGER", nullable: false),
                    Off = table.Column<bool>(type: "INTEGER", nullable: false),
                    OwnerId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Owner = table.Column<string>(type: "TEXT", nullable: false),
                    Since = table.Column<long>(type: "INTEGER", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Reactions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Reactions_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Reactions_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "ReactionsDone",
                columns: table => new
                {
                    ReactionId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AlertId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    JobId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Problem = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ReactionsDone", x => new { x.ReactionId, x.AlertId });
                    table.ForeignKey(
                        name: "FK_ReactionsDone_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_ReactionsDone_Reactions_ReactionId",
                        column: x => x.ReactionId,
                        principalTable: "Reactions",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Reactions_GroupId",
                table: "Reactions",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Reactions_HostId",
                table: "Reactions",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Reactions_NameKey",
                table: "Reactions",
                column: "NameKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_ReactionsDone_AlertId",
                table: "ReactionsDone",
                column: "AlertId");

            migrationBuilder.CreateIndex(
                name: "IX_ReactionsDone_HostId",
                table: "ReactionsDone",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_ReactionsDone_ReactionId_HostId_At",
                table: "ReactionsDone",
                columns: new[] { "ReactionId", "HostId", "At" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "ReactionsDone");

            migrationBuilder.DropTable(
                name: "Reactions");
        }
    }
}
